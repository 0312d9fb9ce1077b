//! The checks before a disk is written from a file.

use super::{Draft, Step, Write};
use crate::{
    copying::{rate, rests},
    finding::{Finding, Rule},
    moment::Span,
    placement,
    units::round,
};

pub(super) fn write(draft: &mut Draft<'_>, ask: &Write) {
    "Write a disk from a file".clone_into(&mut draft.title);
    let machine = draft.machines(&[ask.machine]).into_iter().next();
    let Some(machine) = machine.filter(|m| draft.knows(m)) else { return };
    let name = machine.name.clone();
    let stop = |rule, field: &str, text: String| Finding::stop(rule, &name, text).at(field);
    let Some(n) = machine.disks.iter().position(|d| d.key == ask.disk) else {
        return draft.found(stop(Rule::Exists, "disk", format!("{name} has no such disk.")));
    };
    let disk = machine.disks[n];
    draft.title = format!("Write disk {} of {name} from a file", n + 1);
    draft.found_all(rests(&machine).map(|(field, text)| stop(Rule::State, field, text)));
    if ask.typed.trim() != name {
        draft.found(stop(Rule::Name, "typed", format!("Type the machine's name to confirm: {name}.")));
    }
    let Some(image) = ask.image.and_then(|i| draft.estate().images.get(&i).cloned()) else {
        return draft.found(stop(Rule::Exists, "image", "Choose the file; add it in Storage first.".into()));
    };
    if !image.ready || !image.holds.is_disk() {
        let text = format!("{} is not the bytes of a disk, or not whole: {}.", image.name, image.holds.word());
        return draft.found(stop(Rule::Content, "image", text));
    }
    if !image.holds.is_packed() && image.size > disk.size {
        let text = format!("{} has {}, the disk has {}; make the disk larger first.", image.name, image.size, disk.size);
        draft.found(stop(Rule::Disk, "image", text));
    }
    let Some(via) = draft.at_home(&machine, "machine") else { return };
    let Some(host) = draft.estate().hosts.get(&via).cloned() else { return };
    if host.paths_up(image.volume) == 0 || host.paths_up(disk.volume) == 0 {
        let text = format!("{} lies on a volume that can't be reached from where {name} is.", image.name);
        return draft.found(stop(Rule::Paths, "image", text));
    }
    if let Some(volume) = draft.estate().volumes.get(&disk.volume).cloned() {
        let most = if image.holds.is_packed() { disk.size } else { image.size };
        draft.found(placement::more(&volume, most, "image"));
    }
    let rate = rate(&host, image.volume, disk.volume);
    let time = (rate.0 > 0).then(|| Span::millis(round(disk.size.as_f64() / (rate.0 as f64) * 1000.0)));
    let text = format!("What disk {} of {name} holds is gone, and there is no way back; it holds what is in {} afterwards. A file that ends too early or does not fit changes nothing.", n + 1, image.name);
    draft.found(Finding::mind(Rule::Deleted, &name, text).at("disk"));
    let step = Step::Fill {
        machine: machine.id,
        disk: ask.disk,
        image: image.id,
        via,
        time: time.unwrap_or(Span::mins(10)),
    };
    draft.step(step, format!("Write disk {} of {name}", n + 1), &[], Some("image"));
}

impl crate::estate::Holds {
    /// How large it is unpacked nobody knows before.
    fn is_packed(self) -> bool {
        self == crate::estate::Holds::GzipDisk
    }
}
