//! The checks before a pledge is given by hand or taken away, and before disks are taken out of what is promised.

use super::{Draft, Event, stands::stands};
use crate::{
    estate::{Fact, Machine},
    finding::{Finding, Rule},
    ids::{MachineId, PledgeId},
};
use std::{collections::BTreeSet, sync::Arc};
use uuid::Uuid;

pub(super) fn give(draft: &mut Draft<'_>, id: PledgeId, named: &[MachineId], given: bool) {
    draft.title = if given { "Give a pledge by hand" } else { "Take a pledge away" }.to_owned();
    let Some(pledge) = draft.estate().pledges.get(&id).cloned() else {
        return draft.found(Finding::stop(Rule::Exists, "pledge", "Choose a pledge that is there.").at("pledge"));
    };
    let name = &pledge.name;
    let machines = draft.machines(named);
    draft.title = match (given, machines.as_slice()) {
        (true, [one]) => format!("Give {} the pledge {name}", one.name),
        (true, many) => format!("Give {} machines the pledge {name}", many.len()),
        (false, [one]) => format!("Take the pledge {name} from {}", one.name),
        (false, many) => format!("Take the pledge {name} from {} machines", many.len()),
    };
    let by_hand = |m: &Machine| m.pledged.as_ref().is_some_and(|p| p.by_hand.contains(&id));
    let by_label = |m: &Machine| pledge.to.as_ref().is_some_and(|to| to.fits(&m.labels));
    let mut changed = Vec::new();
    for m in &machines {
        if m.deleted.is_some() {
            let text = format!("{} is deleted; bring it back first.", m.name);
            draft.found(Finding::stop(Rule::Deleted, &m.name, text).at("machines"));
        } else if by_hand(m) != given {
            changed.push(m.clone());
            if by_label(m) {
                let text = match given {
                    true => format!("{} has it by its labels already; it keeps it then without them too.", m.name),
                    false => format!("{} keeps it all the same: it has the labels.", m.name),
                };
                draft.found(Finding::mind(Rule::Label, &m.name, text));
            }
        }
    }
    if changed.is_empty() {
        let text = match given {
            true => "All of them have it by hand already.",
            false => "None of them has it by hand; what is given by labels is taken away with the label, or by changing the pledge.",
        };
        return draft.found(Finding::stop(Rule::Nothing, name, text).at("pledge"));
    }
    let ids: Vec<MachineId> = changed.iter().map(|m| m.id).collect();
    let event = Event::Given { pledge: id, machines: ids, given };
    if given {
        would_hold(draft, &changed, |m| m.pledge(|p| _ = p.by_hand.insert(id)));
    } else {
        let text = format!("Nobody looks any more whether {name} holds for them.");
        draft.found(Finding::mind(Rule::State, name, text));
    }
    draft.intend(event);
}

/// How each would stand.
fn would_hold(draft: &mut Draft<'_>, machines: &[Arc<Machine>], change: impl Fn(&mut Machine)) {
    let mut after = draft.estate().clone();
    for m in machines {
        let mut then = Machine::clone(m);
        change(&mut then);
        after.put(Fact::Machine(Arc::new(then)));
    }
    stands(draft, after, machines.iter().map(|m| m.id), None);
}

pub(super) fn except(draft: &mut Draft<'_>, id: MachineId, disks: &BTreeSet<Uuid>) {
    "Take disks out of what is promised".clone_into(&mut draft.title);
    let Some(machine) = draft.machine(id).cloned() else { return };
    draft.title = format!("What {} is promised is about", machine.name);
    let name = &machine.name;
    let there: BTreeSet<Uuid> = machine.disks.iter().map(|d| d.key).filter(|k| disks.contains(k)).collect();
    if machine.pledged.as_ref().map(|p| &p.except).unwrap_or(&BTreeSet::new()) == &there {
        let text = "Nothing is changed yet.";
        return draft.found(Finding::stop(Rule::Nothing, name, text).at("disks"));
    }
    for (n, disk) in machine.disks.iter().enumerate().filter(|(_, d)| there.contains(&d.key)) {
        let text = format!("Nothing is promised of disk {} of {}: what is on it may be lost.", n + 1, disk.size);
        draft.found(Finding::mind(Rule::Disk, name, text).at("disks"));
    }
    let event = Event::Excepted { machine: id, disks: there.clone() };
    would_hold(draft, &[machine], |m| m.pledge(|p| p.except.clone_from(&there)));
    draft.intend(event);
}
