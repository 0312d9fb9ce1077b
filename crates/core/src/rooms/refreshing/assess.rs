//! The checks before a disk is copied from one machine to another (rules, section 14).

use super::{CopyDisk, Draft, Step};
use crate::{
    copying::{rate, rests},
    estate::{Disk, Machine, Provisioning},
    finding::{Finding, Rule},
    ids::draw_uuid,
    limits,
    moment::Span,
    placement,
    units::round,
};
use std::sync::Arc;

pub(super) fn copy(draft: &mut Draft<'_>, ask: &CopyDisk) {
    "Bring in a disk".clone_into(&mut draft.title);
    let Some(machine) = draft.machine(ask.machine).cloned().filter(|m| draft.knows(m)) else { return };
    let name = &machine.name;
    let Some(onto) = target(draft, ask, &machine) else { return };
    let Some((from, source, words)) = origin(draft, ask, &machine) else { return };
    draft.title = match ask.onto {
        Some(_) => format!("Write a disk of {name} over with {words}"),
        None => format!("Give {name} a copy of {words}"),
    };
    let stop = |rule, field: &str, text: String| Finding::stop(rule, name, text).at(field);
    let disk = onto.unwrap_or(Disk {
        key: draw_uuid(draft.run().0, machine.id.0, draft.now.0.unsigned_abs()),
        size: source.size,
        provisioning: Provisioning::Thin,
        volume: machine.disks.first().map_or(source.volume, |d| d.volume),
    });
    if disk.size < source.size {
        let text = format!("{words} has {}, the disk of {name} has {}; make that larger first.", source.size, disk.size);
        return draft.found(stop(Rule::Disk, "onto", text));
    }
    let Some(via) = draft.at_home(&machine, "machine") else { return };
    let Some(host) = draft.estate().hosts.get(&via).cloned() else { return };
    if host.paths_up(source.volume) == 0 || host.paths_up(disk.volume) == 0 {
        let text = format!("{words} lies on a volume that can't be reached from where {name} is.");
        return draft.found(stop(Rule::Paths, "from", text));
    }
    if let Some(volume) = draft.estate().volumes.get(&disk.volume).cloned() {
        draft.found(placement::more(&volume, source.size, "from"));
    }
    let rate = rate(&host, source.volume, disk.volume);
    let time = (rate.0 > 0).then(|| Span::millis(round(source.size.as_f64() / (rate.0 as f64) * 1000.0)));
    let about = time.map_or_else(|| "a time that is not known".to_owned(), |t| format!("{t} at most"));
    let text = format!("{} at most are copied, in {about}. {} stays as it is.", source.size, from.name);
    draft.found(Finding::clear(Rule::Disk, name, text));
    draft.found(means(ask, &machine, &words));
    let step = Step::Copy {
        machine: machine.id,
        via,
        disk,
        new: ask.onto.is_none(),
        from: from.id,
        snapshot: ask.snapshot,
        place: ask.disk,
        time: time.unwrap_or(Span::mins(10)),
    };
    draft.step(step, format!("Copy {words} to {name}"), &[], Some("from"));
}

/// What it means for whoever has the machine.
fn means(ask: &CopyDisk, machine: &Machine, words: &str) -> Finding {
    let name = &machine.name;
    if ask.onto.is_some() {
        let text = format!("What the disk of {name} holds is gone, and there is no way back; it holds what {words} holds afterwards.");
        return Finding::mind(Rule::Deleted, name, text).at("onto");
    }
    let text = match machine.is_off() {
        true => format!("{name} has it as its last disk when it starts. Its file systems have the names of the original's."),
        false => format!("{name} has it as its last disk at once. Its file systems have the names of the original's."),
    };
    Finding::mind(Rule::Content, name, text).at("onto")
}

/// The disk that is written over; none: a new one.
fn target(draft: &mut Draft<'_>, ask: &CopyDisk, machine: &Machine) -> Option<Option<Disk>> {
    let name = &machine.name;
    let stop = |rule, field: &str, text: String| Finding::stop(rule, name, text).at(field);
    if machine.deleted.is_some() || machine.arriving.is_some() {
        draft.found(stop(Rule::State, "machine", format!("{name} is being moved, or was deleted.")));
        return None;
    }
    let Some(key) = ask.onto else {
        if let Err(words) = limits::DISKS.check(machine.disks.len() + 1) {
            draft.found(stop(Rule::Disk, "onto", words));
            return None;
        }
        return Some(None);
    };
    let Some((_, disk)) = machine.disk(key) else {
        draft.found(stop(Rule::Exists, "onto", format!("{name} has no such disk.")));
        return None;
    };
    if ask.typed.trim() != name {
        draft.found(stop(Rule::Name, "typed", format!("Type the machine's name to confirm: {name}.")));
    }
    if let Some((_, text)) = rests(machine) {
        draft.found(stop(Rule::State, "onto", text));
        return None;
    }
    Some(Some(*disk))
}

/// Whose disk, which, and what it is called.
fn origin(draft: &mut Draft<'_>, ask: &CopyDisk, machine: &Machine) -> Option<(Arc<Machine>, Disk, String)> {
    let stop = |rule, field: &str, text: String| Finding::stop(rule, &machine.name, text).at(field);
    let Some(from) = ask.from.and_then(|id| draft.estate().machines.get(&id)).cloned() else {
        draft.found(stop(Rule::Nothing, "from", "Choose the machine whose disk it is.".into()));
        return None;
    };
    let of = &from.name;
    if from.id == machine.id && ask.onto.is_some() {
        let text = format!("{of} would be written over with what it held itself.");
        draft.found(stop(Rule::Disk, "from", text).remedy("Go back to the snapshot, or bring the disk in as one more."));
        return None;
    }
    let (count, at) = match ask.snapshot {
        None if !from.is_off() => {
            let text = format!("{of} is on, and writes. What is copied is a state that stands still.");
            draft.found(stop(Rule::State, "snapshot", text).remedy("Choose one of its snapshots, or take one first."));
            return None;
        }
        None => (from.disks.len(), String::new()),
        Some(uuid) => match from.snapshots.get(uuid) {
            None => {
                draft.found(stop(Rule::Exists, "snapshot", format!("{of} has no such snapshot any more.")));
                return None;
            }
            Some(snapshot) => (snapshot.disks.unwrap_or(from.disks.len()), format!(" in “{}”", snapshot.name)),
        },
    };
    let Some(disk) = from.disks.get(ask.disk).filter(|_| ask.disk < count) else {
        draft.found(stop(Rule::Exists, "disk", format!("{of} has no such disk{at}.")));
        return None;
    };
    let words = format!("disk {} of {of}{at}", ask.disk + 1);
    Some((from.clone(), *disk, words))
}
