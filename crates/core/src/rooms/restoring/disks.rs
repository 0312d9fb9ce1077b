//! The checks before a machine gets disks of a recovery point (rules, section 17).

use super::{BringDisks, Draft, Step};
use crate::{
    copying::{Line, kept},
    estate::{Disk, MachineState, Provisioning},
    finding::{Finding, Rule},
    ids::draw_uuid,
    limits, placement,
    rooms::carrying::{self, Placed},
    units::Bytes,
};

pub(super) fn bring(draft: &mut Draft<'_>, ask: &BringDisks) {
    "Give disks of a recovery point".clone_into(&mut draft.title);
    let Some((at, _)) = draft.point(ask.point) else { return };
    let words = at.words(draft.estate());
    let Some(id) = ask.machine else {
        let text = "Choose the machine that gets them.";
        return draft.found(Finding::stop(Rule::Nothing, "machine", text).at("machine"));
    };
    let Some(machine) = draft.machine(id).cloned().filter(|m| draft.knows(m) && draft.is_own(m, "machine")) else { return };
    let name = &machine.name;
    draft.title = format!("Give {name} disks of {words}");
    let stop = |rule, field: &str, text: String| Finding::stop(rule, name, text).at(field);
    if machine.deleted.is_some() || machine.arriving.is_some() || machine.state == MachineState::Planned {
        return draft.found(stop(Rule::State, "machine", format!("{name} is being made or moved, or was deleted.")));
    }
    let kept = match kept(draft.view, at, draft.now) {
        Ok(kept) => kept.clone(),
        Err(why) => return draft.found(why.at("point")),
    };
    let wanted: Vec<_> = kept.disks.iter().filter(|d| ask.disks.contains(&d.key)).collect();
    if wanted.is_empty() {
        return draft.found(stop(Rule::Nothing, "disks", "Choose at least one of its disks.".into()));
    }
    if let Err(words) = limits::DISKS.check(machine.disks.len() + wanted.len()) {
        return draft.found(stop(Rule::Disk, "disks", words));
    }
    let Some(via) = draft.at_home(&machine, "machine") else { return };
    let home = machine.disks.first().and_then(|d| draft.estate().volumes.get(&d.volume)).cloned();
    let Some(home) = home else {
        return draft.found(stop(Rule::Disk, "machine", format!("{name} has no disk, so nobody knows which volume it lies on.")));
    };
    let (bytes, line): (Bytes, _) = (wanted.iter().map(|d| d.held).sum(), Line::to(draft.estate(), at.store));
    draft.found(placement::more(&home, bytes, "disks"));
    let text = format!("{bytes} of {words} come from its store to {}.", home.name);
    draft.found(Finding::clear(Rule::Disk, name, text).because(line.because(bytes)));
    let text = match machine.is_off() {
        true => format!("{name} has them as its last disks when it starts. Their file systems have the names of the originals'."),
        false => format!("{name} has them as its last disks at once. Their file systems have the names of the originals'."),
    };
    draft.found(Finding::mind(Rule::Content, name, text).at("disks"));
    let (run, now) = (draft.run().0, draft.now.0.unsigned_abs());
    let mut drawn = || draw_uuid(run, draft.number(), now);
    let delivery = drawn();
    let placed: Vec<Placed> = wanted
        .iter()
        .map(|d| Placed {
            from: d.key,
            onto: Disk {
                key: drawn(),
                size: d.size,
                provisioning: Provisioning::Thin,
                volume: home.id,
            },
            new: true,
        })
        .collect();
    let brought = draft.step(
        Step::Carry(carrying::Step::Bring {
            machine: machine.id,
            via,
            volume: home.id,
            delivery,
            point: at,
            disks: placed.iter().map(|p| p.from).collect(),
            time: line.time(bytes),
        }),
        format!("Bring {bytes} of {words}"),
        &[],
        Some("disks"),
    );
    let step = carrying::Step::Place {
        machine: machine.id,
        via,
        volume: home.id,
        delivery,
        point: at,
        disks: placed,
    };
    draft.step(Step::Carry(step), format!("Give them to {name}"), &[brought], Some("machine"));
}
