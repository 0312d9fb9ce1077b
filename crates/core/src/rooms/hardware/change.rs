//! The checks before disks and cards of a machine change (rules, section 12).

use super::{Change, Draft, DiskWish, Step, cards};
use crate::{
    estate::{Disk, Machine, Provisioning, Volume},
    finding::{Finding, Rule},
    ids::{HostId, draw_uuid},
    limits,
    placement,
    units::Bytes,
};
use std::sync::Arc;
use uuid::Uuid;

pub(super) fn change(draft: &mut Draft<'_>, ask: &Change) {
    "Change disks and cards".clone_into(&mut draft.title);
    let Some(machine) = draft.machine(ask.machine).cloned() else { return };
    let name = &machine.name;
    draft.title = format!("Change disks and cards of {name}");
    if ask.disks.is_empty() && ask.cards.is_empty() {
        let text = format!("Nothing about the disks and cards of {name} is changed.");
        return draft.found(Finding::stop(Rule::Nothing, name, text).at("disks"));
    }
    let Some((via, volume)) = may(draft, &machine) else { return };
    let mut then = Machine::clone(&machine);
    cards::change(draft, &machine, &mut then, &ask.cards, via);
    let mut last: Vec<usize> = draft.planned().enumerate().map(|(n, _)| n).collect();
    let mut thick = Bytes::ZERO;
    let mut added = 0;
    for wish in &ask.disks {
        let planned = one(draft, (&machine, &volume), &mut then, *wish, via);
        if let DiskWish::Add { size, provisioning } = wish {
            added += 1;
            thick += if *provisioning == Provisioning::Thick { *size } else { Bytes::ZERO };
        }
        if let Some((step, title)) = planned {
            last = vec![draft.step(step, title, &last, Some("disks"))];
        }
    }
    if added > 0 {
        draft.found(placement::more(&volume, thick, "disks"));
    }
    counted(draft, &then);
    if !machine.is_off() {
        draft.fits(&machine, &then, "disks");
    }
}

/// Whether anything can be done to it now, and by which host.
fn may(draft: &mut Draft<'_>, machine: &Machine) -> Option<(HostId, Arc<Volume>)> {
    let name = &machine.name;
    let via = draft.at_rest(machine, "machines")?;
    let stop = |rule, text: String| Finding::stop(rule, name, text).at("machines");
    let volume = machine.volumes().into_iter().next();
    let volume = volume.and_then(|v| draft.estate().volumes.get(&v)).cloned();
    if volume.is_none() {
        draft.found(stop(Rule::Disk, format!("The volume of {name} is not known.")));
    }
    Some((via, volume?))
}

/// One wish: what is said of it, what the machine is then, and its step.
fn one(
    draft: &mut Draft<'_>,
    (machine, volume): (&Machine, &Volume),
    then: &mut Machine,
    wish: DiskWish,
    via: HostId,
) -> Option<(Step, String)> {
    let (id, name) = (machine.id, &machine.name);
    let on = volume.id;
    match wish {
        DiskWish::Add { size, provisioning } => {
            if let Err(words) = placement::sized(size) {
                draft.found(Finding::stop(Rule::Disk, name, words).at("disks"));
                return None;
            }
            let salt = draft.now.0.unsigned_abs().wrapping_add(then.disks.len() as u64);
            let key = draw_uuid(draft.run().0, id.0, salt);
            let disk = Disk { key, size, provisioning, volume: on };
            then.disks.push(disk);
            let when = if machine.is_off() { "when it starts" } else { "at once" };
            let text = format!("{name} has one more disk of {size} {when}; its guest gives it a file system.");
            draft.found(Finding::clear(Rule::Disk, name, text));
            let title = format!("Add a disk of {size} to {name}");
            Some((Step::Add { machine: id, via, disk }, title))
        }
        DiskWish::Detach { disk } | DiskWish::Delete { disk } => {
            let delete = matches!(wish, DiskWish::Delete { .. });
            taken_out(draft, (machine, volume), then, disk, delete)?;
            let step = Step::Detach { machine: id, via, volume: on, disk, delete };
            let what = if delete { "Delete" } else { "Detach" };
            Some((step, format!("{what} a disk of {name}")))
        }
        DiskWish::Attach { disk } => {
            let spare = volume.unattached.disks.get(&disk);
            let Some(spare) = spare.filter(|d| d.deleted.is_none()) else {
                let text = match spare {
                    Some(_) => "The disk was deleted; bring it back first.".to_owned(),
                    None => format!("There is no such unattached disk on {}, where the disks of {name} lie.", volume.name),
                };
                draft.found(Finding::stop(Rule::Exists, name, text).at("disks"));
                return None;
            };
            let size = spare.size;
            then.disks.push(Disk { key: disk, size, provisioning: spare.provisioning, volume: on });
            let text = format!("{name} has the disk of {size} that {} had, with everything on it.", spare.had);
            draft.found(Finding::clear(Rule::Disk, name, text));
            let title = format!("Attach the disk that {} had to {name}", spare.had);
            Some((Step::Attach { machine: id, via, volume: on, disk }, title))
        }
    }
}

/// A disk that the machine has no more; what that means for it.
fn taken_out(
    draft: &mut Draft<'_>,
    (machine, volume): (&Machine, &Volume),
    then: &mut Machine,
    key: Uuid,
    delete: bool,
) -> Option<()> {
    let name = &machine.name;
    let stop = |rule, text: String| Finding::stop(rule, name, text).at("disks");
    let Some((place, disk)) = machine.disk(key).filter(|_| then.disk(key).is_some()) else {
        draft.found(stop(Rule::Exists, format!("{name} has no such disk any more.")));
        return None;
    };
    let number = place + 1;
    let held = machine.snapshots.all.iter().find(|s| s.disks.is_none_or(|n| n > place));
    if let Some(held) = held {
        let text = format!("Snapshot “{}” of {name} holds disk {number} as it was.", held.name);
        draft.found(stop(Rule::Disk, text).remedy("Delete its snapshots first, or copy what you need within the guest."));
        return None;
    }
    if let Some(parent) = machine.parent {
        let text = format!("The disks of {name} lie on {}.", draft.estate().called(parent));
        draft.found(stop(Rule::Held, text).remedy("Make it whole first."));
        return None;
    }
    if place == 0 && !machine.is_off() {
        let text = format!("{name} runs from disk 1.");
        draft.found(stop(Rule::State, text).remedy("Stop it first."));
        return None;
    }
    then.disks.retain(|d| d.key != key);
    let size = disk.size;
    let kept = match delete {
        true => format!("it can be brought back for {} days, and takes its room on {} until then", Machine::KEPT_DAYS, volume.name),
        false => format!("it stays on {} with everything on it, and no machine has it", volume.name),
    };
    draft.found(Finding::mind(Rule::Disk, name, format!("{name} loses disk {number} of {size}: {kept}.")).at("disks"));
    if !machine.is_off() {
        let text = format!("{name} is on. What its guest did not write to disk {number} yet is lost.");
        let mind = Finding::mind(Rule::Guest, name, text).at("disks");
        draft.found(mind.remedy("Unmount its file systems within the guest first."));
    } else if place == 0 {
        let text = format!("{name} starts from the disk after it next time.");
        draft.found(Finding::mind(Rule::Disk, name, text).at("disks"));
    }
    Some(())
}

/// How many it may have, and must.
fn counted(draft: &mut Draft<'_>, then: &Machine) {
    let name = &then.name;
    if then.disks.is_empty() {
        let text = format!("{name} would have no disk; its record lies beside its disks.");
        draft.found(Finding::stop(Rule::Disk, name, text).at("disks").remedy("Add another one in the same sheet, or delete the machine."));
    }
    if let Err(words) = limits::DISKS.check(then.disks.len()) {
        draft.found(Finding::stop(Rule::Disk, name, words).at("disks"));
    }
    if let Err(words) = limits::CARDS.check(then.nics.len()) {
        draft.found(Finding::stop(Rule::Address, name, words).at("cards"));
    }
}
