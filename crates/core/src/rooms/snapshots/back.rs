//! The checks before a machine goes back to a snapshot.

use super::{Back, Draft, Quiet, Step, layers, take::{alone, may}};
use crate::{
    estate::{Consistent, Machine, Snapshot},
    finding::{Finding, Rule},
    ids::draw_uuid,
    layers::DEEPEST,
    moment::Span,
};

pub(super) fn back(draft: &mut Draft<'_>, ask: &Back) {
    "Go back to a snapshot".clone_into(&mut draft.title);
    let Some(machine) = draft.machine(ask.machine).cloned() else { return };
    let name = &machine.name;
    let chosen = ask.to.and_then(|to| machine.snapshots.get(to)).cloned();
    let Some(to) = chosen else {
        let text = format!("Choose the snapshot that {name} shall go back to.");
        return draft.found(Finding::stop(Rule::Nothing, name, text).at("to"));
    };
    draft.title = format!("{name} goes back to {}", to.name);
    if !draft.is_own(&machine, "to") || !alone(draft, &machine, "to") {
        return;
    }
    let Some((host, _)) = may(draft, &machine) else { return };
    if let Some(more) = to.disks.filter(|n| *n < machine.disks.len()) {
        let text = format!("“{}” does not hold disk {} of {name}, which came later.", to.name, more + 1);
        let stop = Finding::stop(Rule::Disk, name, text).at("to");
        draft.found(stop.remedy("Detach the later disks first; attach them again afterwards."));
    }
    lost(draft, &machine, &to, ask.keep);
    after(draft, &machine, &to);
    let mut waits = vec![];
    if ask.keep {
        if machine.snapshots.depth() + 1 >= DEEPEST {
            let text = format!("{DEEPEST} layers lie on each other; what is now can't be kept as one more.");
            draft.found(Finding::stop(Rule::Disk, name, text).at("keep"));
        }
        let kept = Step::Take {
            machine: machine.id,
            via: host.id,
            snapshot: draw_uuid(draft.run().0, machine.id.0, draft.now.0.unsigned_abs()),
            name: format!("before going back to {}", to.name).chars().take(60).collect(),
            note: String::new(),
            quiet: Quiet::IfPossible,
            memory: false,
            ends: None,
            time: Span::secs(1),
        };
        waits.push(draft.step(kept, format!("Keep {name} as it is now"), &[], Some("keep")));
    }
    if !machine.is_off() {
        draft.interrupts(&machine);
    }
    let step = Step::Back {
        machine: machine.id,
        via: host.id,
        to: to.uuid,
    };
    draft.step(step, format!("{name} goes back to {}", to.name), &waits, Some("to"));
}

/// What was written since.
fn lost(draft: &mut Draft<'_>, machine: &Machine, to: &Snapshot, keep: bool) {
    let name = &machine.name;
    let ago = draft.now.since(to.taken);
    let (written, because) = match layers(draft.view, machine, draft.now) {
        Some(chain) => (format!("{} written since", chain.since(to.uuid)), "from the bitmaps of its layers"),
        None => {
            let text = format!("How much {name} wrote since was not read.");
            draft.found(Finding::unchecked(Rule::Disk, name, text));
            ("all that was written since".to_owned(), "")
        }
    };
    let text = match keep {
        true => format!("{name} is as it was {ago} ago, without {written}; that stays in a snapshot of its own."),
        false => format!("{name} is as it was {ago} ago; {written} is lost for good."),
    };
    draft.found(Finding::mind(Rule::Content, name, text).because(because).at("keep"));
}

/// Whether it runs afterwards, and from where.
fn after(draft: &mut Draft<'_>, machine: &Machine, to: &Snapshot) {
    let (name, on) = (&machine.name, !machine.is_off());
    let text = match (to.consistent, on) {
        (Consistent::Memory, true) => format!("{name} goes on with the memory that it had then; connections that it had are long gone."),
        (Consistent::Memory, false) => format!("{name} stays off; when it is powered on, it goes on with the memory that it had then."),
        (Consistent::Off | Consistent::Quiet, true) => format!("{name} boots again, from disks that were at rest."),
        (Consistent::Crash, true) => format!("{name} boots again, as after a power cut: its file systems and databases recover by themselves."),
        (Consistent::Off | Consistent::Quiet | Consistent::Crash, false) => format!("{name} stays off."),
    };
    let finding = match (to.consistent, on) {
        (Consistent::Crash, _) | (Consistent::Memory, true) => Finding::mind(Rule::State, name, text),
        (Consistent::Off | Consistent::Quiet | Consistent::Memory, _) => Finding::clear(Rule::State, name, text),
    };
    draft.found(finding);
}
