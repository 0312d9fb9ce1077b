//! The checks before a disk is made for a guest cluster (rules, sections 8 and 15).

use super::{Draft, Make, Source, Step, nodes};
use crate::{
    estate::{Provisioning, Slot, Volume},
    finding::{Finding, Rule},
    ids::{HostId, draw_uuid},
    limits,
    placement,
    units::Bytes,
};
use std::collections::BTreeSet;
use uuid::Uuid;

pub(super) fn make(draft: &mut Draft<'_>, ask: &Make) {
    let name = ask.name.trim();
    draft.title = match name {
        "" => "Share a disk".to_owned(),
        name => format!("Share disk {name} between machines"),
    };
    named(draft, name);
    nodes::counted(draft, &ask.nodes);
    let Some(volume) = ask.volume else {
        return draft.found(Finding::stop(Rule::Nothing, "volume", "Choose the volume that it lies on.").at("volume"));
    };
    let Some(volume) = draft.volume(volume).cloned() else { return };
    let Some(via) = draft.estate().reach(volume.id).map(|h| h.id) else {
        let text = format!("No host that mounts {} answers.", volume.name);
        return draft.found(Finding::stop(Rule::HostOpen, &volume.name, text).at("volume"));
    };
    let machines = draft.machines(&ask.nodes);
    let taken: BTreeSet<Slot> = machines.iter().flat_map(|m| m.shares.iter().map(|s| s.slot)).collect();
    let Some(slot) = Slot::all().find(|s| !taken.contains(s)) else {
        let text = "These machines have no place in common that is free; each has up to 45 shared disks.";
        return draft.found(Finding::stop(Rule::Disk, "nodes", text).at("nodes"));
    };
    let Some(made) = content(draft, ask, &volume, via, slot) else { return };
    let disk = match &made {
        Step::Make { disk, .. } => *disk,
        Step::Give { .. } | Step::Take { .. } | Step::End { .. } => return,
    };
    let first = draft.step(made, format!("Make shared disk {name} on {}", volume.name), &[], Some("name"));
    let mut fit = 0;
    for machine in &machines {
        if let Some(via) = nodes::may(draft, machine, &volume) {
            fit += 1;
            let step = Step::Give { machine: machine.id, via, volume: volume.id, disk, slot };
            draft.step(step, format!("Give {name} to {}", machine.name), &[first], Some("nodes"));
        }
    }
    if fit == machines.len() && fit > 1 {
        nodes::said(draft, name, slot, &machines);
    }
}

fn named(draft: &mut Draft<'_>, name: &str) {
    let stop = |text: String| Finding::stop(Rule::Name, "name", text).at("name");
    if name.is_empty() {
        draft.found(stop("Give it a name.".into()));
    } else if let Err(words) = limits::NAME.check(name.chars().count()) {
        draft.found(stop(words));
    } else if draft.estate().volumes.values().any(|v| v.shared.disks.values().any(|d| d.name == name)) {
        draft.found(stop(format!("There is a shared disk {name} already.")));
    }
}

/// The step that makes it, empty or from what is there.
fn content(draft: &mut Draft<'_>, ask: &Make, volume: &Volume, via: HostId, slot: Slot) -> Option<Step> {
    let made = |disk: Uuid, size: Bytes, provisioning: Provisioning, kept: bool| Step::Make {
        volume: volume.id,
        via,
        disk,
        name: ask.name.trim().to_owned(),
        size,
        provisioning,
        slot,
        kept,
    };
    match ask.source {
        Source::Empty { size, provisioning } => {
            if let Err(words) = placement::sized(size) {
                draft.found(Finding::stop(Rule::Disk, "size", words).at("size"));
                return None;
            }
            let thick = if provisioning == Provisioning::Thick { size } else { Bytes::ZERO };
            draft.found(placement::more(volume, thick, "volume"));
            let disk = draw_uuid(draft.run().0, volume.id.0, draft.now.0.unsigned_abs());
            Some(made(disk, size, provisioning, false))
        }
        Source::Unattached { disk } => {
            let there = volume.unattached.disks.get(&disk).filter(|d| d.deleted.is_none()).cloned();
            let Some(there) = there else {
                let text = format!("There is no such unattached disk on {}.", volume.name);
                draft.found(Finding::stop(Rule::Exists, "source", text).at("source"));
                return None;
            };
            let text = format!("It is the disk of {} that {} had, with everything on it.", there.size, there.had);
            draft.found(Finding::clear(Rule::Content, &volume.name, text));
            Some(made(disk, there.size, there.provisioning, true))
        }
    }
}
