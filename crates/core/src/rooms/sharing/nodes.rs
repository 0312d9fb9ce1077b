//! Who has a shared disk: machines that come to it, leave it, or have it otherwise than the disk asks for.

use super::{Draft, Step};
use crate::{
    estate::{Machine, SharedDisk, Slot, Volume},
    finding::{Finding, Offer, Rule},
    ids::{HostId, MachineId},
    limits,
};
use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
};
use uuid::Uuid;

pub(super) fn change(draft: &mut Draft<'_>, disk: Uuid, nodes: &[MachineId]) {
    "Change who has a shared disk".clone_into(&mut draft.title);
    let Some((volume, shared)) = known(draft, disk) else { return };
    let name = &shared.name;
    draft.title = format!("Change who has {name}");
    let wanted = draft.machines(nodes);
    counted(draft, nodes);
    let ids: BTreeSet<MachineId> = wanted.iter().map(|m| m.id).collect();
    let had: Vec<Arc<Machine>> = draft.estate().nodes(disk).cloned().collect();
    let mut changes = 0;
    for machine in had.iter().filter(|m| !ids.contains(&m.id)) {
        changes += 1;
        taken(draft, &volume, (disk, &shared), machine);
    }
    for machine in &wanted {
        let differs = machine.shares(disk).map(|has| shared.differs(has));
        if differs.as_ref().is_some_and(Vec::is_empty) {
            continue;
        }
        changes += 1;
        for what in differs.iter().flatten() {
            let text = format!("{}: {}.", machine.name, what.words());
            draft.found(Finding::mind(Rule::Drift, &machine.name, text).at("nodes"));
        }
        given(draft, &volume, (disk, &shared), machine, differs.is_some());
    }
    if changes == 0 {
        let text = format!("All of them have {name} already, each as it shall.");
        return draft.found(Finding::stop(Rule::Nothing, name, text).at("nodes"));
    }
    said(draft, name, shared.slot, &wanted);
}

/// A shared disk that the proposal names, if it is there; else a *stop*.
pub(super) fn known(draft: &mut Draft<'_>, disk: Uuid) -> Option<(Arc<Volume>, SharedDisk)> {
    let found = draft.estate().shared_disk(disk).map(|(v, d)| (v.clone(), d.clone()));
    if found.is_none() {
        let text = "There is no such shared disk any more.";
        draft.found(Finding::stop(Rule::Exists, "shared disk", text));
    }
    found
}

pub(super) fn counted(draft: &mut Draft<'_>, nodes: &[MachineId]) {
    let nodes = nodes.iter().collect::<BTreeSet<_>>().len();
    if nodes < 2 {
        let text = "Choose two machines or more; one alone has nobody to take over from it.";
        draft.found(Finding::stop(Rule::Count, "nodes", text).at("nodes"));
    } else if let Err(words) = limits::NODES.check(nodes) {
        draft.found(Finding::stop(Rule::Count, "nodes", words).at("nodes"));
    }
}

/// Whether the machine can have a disk of this volume now, and which host gives it.
pub(super) fn may(draft: &mut Draft<'_>, machine: &Machine, volume: &Volume) -> Option<HostId> {
    let name = &machine.name;
    let stop = |rule, text: String| Finding::stop(rule, name, text).at("nodes");
    let via = draft.at_rest(machine, "nodes")?;
    let estate = draft.estate();
    let problem = if volume.cluster != machine.cluster {
        let text = format!("{} is not a volume of the cluster that {name} is in.", volume.name);
        Some(stop(Rule::Storage, text).remedy("Choose a volume that the hosts of all of them mount."))
    } else {
        let host = machine.host.and_then(|h| estate.hosts.get(&h));
        let without = host.filter(|h| h.paths_up(volume.id) == 0);
        without.map(|h| {
            let text = format!("{} has no path to {}, and {name} is on it.", h.name, volume.name);
            stop(Rule::Paths, text).remedy("Mend its paths, or move the machine first.")
        })
    };
    if let Some(problem) = problem {
        draft.found(problem);
        return None;
    }
    if !machine.snapshots.is_empty() {
        let text = format!("{name} has snapshots: nobody can go back to one while it shares a disk.");
        draft.found(Finding::mind(Rule::Disk, name, text).at("nodes"));
    }
    Some(via)
}

/// One that gets it, or gets it as it shall be.
fn given(draft: &mut Draft<'_>, volume: &Volume, (disk, shared): (Uuid, &SharedDisk), machine: &Machine, has: bool) {
    let (name, who) = (&shared.name, &machine.name);
    let Some(via) = may(draft, machine, volume) else { return };
    if let Some(other) = machine.shares.iter().find(|s| s.disk != disk && s.slot == shared.slot) {
        let of = draft.estate().shared_disk(other.disk).map_or("another shared disk", |(_, d)| d.name.as_str());
        let text = format!("{who} has {of} at {}, where all others have {name}.", shared.slot);
        return draft.found(Finding::stop(Rule::Disk, who, text).at("nodes").remedy("Take that one from it first."));
    }
    if has && !let_go(draft, shared, machine) {
        return;
    }
    if has && !machine.is_off() {
        let text = format!("{who} is on: its guest loses {name} for a moment, and can't take over then.");
        draft.found(Finding::mind(Rule::Guest, who, text).at("nodes"));
    }
    let step = Step::Give { machine: machine.id, via, volume: volume.id, disk, slot: shared.slot };
    let title = match has {
        true => format!("Let {who} have {name} as it shall"),
        false => format!("Give {name} to {who}"),
    };
    draft.step(step, title, &[], Some("nodes"));
}

/// One that has it no more.
pub(super) fn taken(draft: &mut Draft<'_>, volume: &Volume, (disk, shared): (Uuid, &SharedDisk), machine: &Machine) -> Option<usize> {
    let (name, who) = (&shared.name, &machine.name);
    let via = draft.at_rest(machine, "nodes")?;
    if !let_go(draft, shared, machine) {
        return None;
    }
    let text = match machine.is_off() {
        true => format!("{who} has {name} no more when it starts."),
        false => format!("{who} is on, and its guest has {name} no more at once."),
    };
    draft.found(Finding::mind(Rule::Disk, who, text).at("nodes"));
    let step = Step::Take { machine: machine.id, via, volume: volume.id, disk };
    Some(draft.step(step, format!("Take {name} from {who}"), &[], Some("nodes")))
}

/// Nobody takes a disk from under the guest that writes to it.
fn let_go(draft: &mut Draft<'_>, shared: &SharedDisk, machine: &Machine) -> bool {
    if machine.is_off() || !shared.is_held_by(machine) {
        return true;
    }
    let (name, who) = (&shared.name, &machine.name);
    let text = format!("{who} holds the reservation of {name}: its guest writes to it now.");
    let stop = Finding::stop(Rule::Guest, who, text).at("nodes").offering([Offer::Stop(machine.id)]);
    draft.found(stop.remedy("Let another node take over within the guest, or stop this one."));
    false
}

/// What holds for all of them from now on.
pub(super) fn said(draft: &mut Draft<'_>, name: &str, slot: Slot, machines: &[Arc<Machine>]) {
    let text = format!("Every one has {name} at {slot}, with persistent reservations: who holds the reservation writes. Their guests must be set up for it.");
    draft.found(Finding::clear(Rule::Disk, name, text));
    let text = format!("As long as they have {name}, no snapshot of them can be taken, and nothing that rests on snapshots copies what is on it.");
    draft.found(Finding::mind(Rule::Content, name, text).remedy("Protect it from within the guests, or by the array."));
    let mut by_host: BTreeMap<HostId, Vec<&str>> = BTreeMap::new();
    for machine in machines {
        if let Some(host) = machine.host {
            by_host.entry(host).or_default().push(&machine.name);
        }
    }
    let together: Vec<_> = by_host.into_iter().filter(|(_, who)| who.len() > 1).collect();
    if together.is_empty() {
        let text = "They are on different hosts, and never come to the same one.";
        return draft.found(Finding::clear(Rule::Apart, name, text));
    }
    for (host, who) in together {
        let host = draft.estate().hosts.get(&host).map_or("one host", |h| h.name.as_str());
        let text = format!("{} are all on {host}: if it fails, nobody is left to take over.", who.join(" and "));
        let mind = Finding::mind(Rule::Apart, name, text).at("nodes");
        draft.found(mind.remedy("Move one of them to another host; from then on they stay apart."));
    }
}
