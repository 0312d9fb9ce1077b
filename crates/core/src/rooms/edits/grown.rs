//! Disks that are made larger, while their machine runs or not; never smaller (rules, section 12).

use super::{Draft, Set};
use crate::{
    booting,
    estate::{Disk, Machine, Provisioning},
    finding::{Finding, Rule},
    ids::VolumeId,
    limits, placement,
    units::Bytes,
};
use std::collections::BTreeMap;

pub(super) fn disks(draft: &mut Draft<'_>, machine: &Machine, sets: &[Set]) {
    let mut more: BTreeMap<VolumeId, Bytes> = BTreeMap::new();
    for set in sets {
        let Set::DiskSize { disk, size, .. } = set else { continue };
        if let Some(was) = one(draft, machine, *disk, *size) {
            let thick = was.provisioning == Provisioning::Thick;
            let needs = if thick { size.less(was.size) } else { Bytes::ZERO };
            *more.entry(was.volume).or_default() += needs;
        }
    }
    if !more.is_empty() && booting::out_of_reach(machine).is_none() {
        let mut then = machine.clone();
        sets.iter().for_each(|s| s.on_machine(&mut then));
        draft.found_all(booting::out_of_reach(&then).map(|mind| mind.at("disk-1")));
    }
    for (volume, needs) in more {
        if let Some(volume) = draft.estate().volumes.get(&volume).cloned() {
            draft.found(placement::more(&volume, needs, "disk-1"));
        }
    }
}

/// The disk as it is, if it can become so large.
fn one(draft: &mut Draft<'_>, machine: &Machine, disk: usize, size: Bytes) -> Option<Disk> {
    let name = &machine.name;
    let field = format!("disk-{}", disk + 1);
    let number = disk + 1;
    let stop = |text: String| Finding::stop(Rule::Disk, name, text).at(&field);
    let Some(was) = machine.disks.get(disk).copied() else {
        draft.found(stop(format!("{name} has no disk {number}.")));
        return None;
    };
    let most = Bytes(u64::try_from(limits::FIGURE_DISK.most).unwrap_or(u64::MAX));
    if size < was.size {
        let text = format!("Disk {number} of {name} has {}; a disk is never made smaller, for nobody knows what of it its file systems use.", was.size);
        draft.found(stop(text).remedy("Give it a new, smaller disk, and copy within the guest what it needs."));
        return None;
    }
    if size > most {
        draft.found(stop(format!("A disk has at most {most}.")));
        return None;
    }
    let own = machine.host.and_then(|h| draft.estate().hosts.get(&h));
    if let Some(host) = own.filter(|h| !machine.is_off() && !h.accepts_work()) {
        let text = format!("{} takes no orders now; only there can a disk of {name} grow while it is on.", host.name);
        draft.found(stop(text));
        return None;
    }
    let text = match machine.is_off() {
        true => format!("Disk {number} of {name} has {size} when it starts; its file system is made larger within the guest."),
        false => format!("Disk {number} of {name} has {size} at once; its file system is made larger within the guest."),
    };
    draft.found(Finding::clear(Rule::Disk, name, text).because(format!("{} more", size.less(was.size))));
    Some(was)
}
