//! The checks before a machine, or a disk of it, is packed into a file.

use super::{Draft, Event, Pack, Step, file_name};
use crate::{
    copying::{Original, Source},
    estate::{Holds, Image, Machine},
    finding::{Finding, Rule},
    ids::{ImageId, draw_uuid},
    limits,
    moment::Span,
    placement,
    units::{Bytes, round},
};
use std::sync::Arc;

pub(super) fn pack(draft: &mut Draft<'_>, ask: &Pack) {
    "Pack a machine".clone_into(&mut draft.title);
    let machine = draft.machines(&[ask.machine]).into_iter().next();
    let Some(machine) = machine.filter(|m| draft.knows(m)) else { return };
    if machine.arriving.is_some() || machine.deleted.is_some() {
        let text = format!("{} is being moved, or was deleted.", machine.name);
        return draft.found(Finding::stop(Rule::State, &machine.name, text).at("machine"));
    }
    let source = Source::Machine {
        machine: machine.id,
        snapshot: ask.snapshot,
    };
    let from = match source.resolve(draft.view, draft.now) {
        Ok(from) => from,
        Err(found) => return draft.found(found.at("snapshot")),
    };
    let Some(number) = which(draft, &machine, &from, ask) else { return };
    let name = named(draft, &machine, ask, number);
    draft.title = format!("Pack {} into {name}", from.words);
    if from.running {
        let text = format!("{} is on: its disks are read as a snapshot has them.", machine.name);
        let stop = Finding::stop(Rule::State, &machine.name, text).at("snapshot");
        draft.found(stop.remedy("Choose a snapshot, or power it off."));
    }
    let Some(lies) = from.volume() else { return };
    let to = ask.volume.unwrap_or(lies);
    let Some(volume) = draft.volume(to).cloned() else { return };
    let Some(via) = draft.at_home(&machine, "machine") else { return };
    let Some(host) = draft.estate().hosts.get(&via).cloned() else { return };
    if host.paths_up(to) == 0 || host.paths_up(lies) == 0 {
        let text = format!("{} can't be reached from where {} is.", volume.name, machine.name);
        let stop = Finding::stop(Rule::Paths, &volume.name, text).at("volume");
        return draft.found(stop.remedy("Choose a volume of the same cluster."));
    }
    draft.found_all(from.left_out());
    let all: Bytes = match number {
        Some(n) => from.disks.get(n - 1).map_or(Bytes::ZERO, |d| d.size),
        None => from.disks.iter().map(|d| d.size).sum(),
    };
    draft.found(room(ask, &from, all, &volume));
    let rate = crate::copying::rate(&host, lies, to);
    let time = (rate.0 > 0).then(|| Span::millis(round(all.as_f64() / (rate.0 as f64) * 1000.0)));
    let about = time.map_or_else(|| "a time that is not known".to_owned(), |t| format!("about {t}"));
    let text = format!("{all} are read in {about}. Then {name} can be fetched from its page, also in parts, until somebody removes it.");
    draft.found(Finding::clear(Rule::Disk, &machine.name, text));
    draft.found(inside(&machine, number));
    let id = ImageId(draft.number());
    draft.intend(Event::Planned(Box::new(Image {
        id,
        carries_agent: false,
        uuid: draw_uuid(draft.run().0, id.0, draft.now.0.unsigned_abs()),
        name: name.clone(),
        volume: to,
        size: Bytes::ZERO,
        mark: String::new(),
        expected: None,
        sha256: None,
        label: String::new(),
        ready: false,
        holds: match (number, ask.gzip) {
            (None, _) => Holds::Package,
            (Some(_), true) => Holds::GzipDisk,
            (Some(_), false) => Holds::Disk,
        },
        added: draft.now,
    })));
    let step = Step::Pack {
        image: id,
        machine: machine.id,
        snapshot: ask.snapshot,
        disk: ask.disk,
        gzip: ask.gzip,
        via,
        time: time.unwrap_or(Span::mins(10)),
    };
    draft.step(step, format!("Pack {name}"), &[], Some("machine"));
}

/// Which disk, counted from one; none: all of them.
fn which(draft: &mut Draft<'_>, machine: &Machine, from: &Original, ask: &Pack) -> Option<Option<usize>> {
    let Some(key) = ask.disk else { return Some(None) };
    let found = from.disks.iter().position(|d| d.key == key);
    if found.is_none() {
        let text = format!("{} has no such disk, or had not when the snapshot was taken.", machine.name);
        draft.found(Finding::stop(Rule::Exists, &machine.name, text).at("disk"));
    }
    found.map(|n| Some(n + 1))
}

fn named(draft: &mut Draft<'_>, machine: &Arc<Machine>, ask: &Pack, number: Option<usize>) -> String {
    let usual = match number {
        None => format!("{}.ova", machine.name),
        Some(n) => file_name(&machine.name, n, ask.gzip),
    };
    let name = Some(ask.name.trim().to_owned()).filter(|n| !n.is_empty()).unwrap_or(usual);
    let stop = |text: String| Finding::stop(Rule::Name, "name", text).at("name");
    if let Err(words) = limits::IMAGE_NAME.check(name.chars().count()) {
        draft.found(stop(words));
    } else if draft.estate().image_named(&name).is_some() {
        let text = format!("There is a file {name} already; choose another name, or remove it first.");
        draft.found(stop(text));
    }
    name
}

/// Raw bytes take all of the disk; packed ones at most what is written on it, and how much less nobody knows before.
fn room(ask: &Pack, from: &Original, all: Bytes, volume: &crate::estate::Volume) -> Finding {
    let needs = if ask.gzip { from.bytes.min(all) } else { all };
    placement::more(volume, needs, "volume")
}

fn inside(machine: &Machine, number: Option<usize>) -> Finding {
    let name = &machine.name;
    let text = match number {
        None => format!("Beside the disks of {name} its sizes, networks, MAC addresses and note are in it, with a SHA-256 of each file. Keys, names and histories of its guest go with the disks."),
        Some(_) => format!("All that is on the disk is in it, keys and histories of the guest of {name} too."),
    };
    Finding::clear(Rule::Content, name, text)
}
