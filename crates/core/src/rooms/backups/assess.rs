//! The checks before machines are backed up (rules, section 17): those of a snapshot, and those of the copy.

use super::{BackUp, Draft, Step};
use crate::{
    finding::{Finding, Rule},
    layers,
    moment::Span,
    rooms::{
        backups::Event,
        carrying,
        snapshots::{self, Take},
    },
    units::Bytes,
};
use uuid::Uuid;

/// A mark that a run left goes by itself after this.
const LEFT: Span = Span::days(3);
/// So many are copied at the same time: a store and a line are shared.
const AT_ONCE: usize = 4;

pub(super) fn back_up(draft: &mut Draft<'_>, ask: &BackUp) {
    "Back up".clone_into(&mut draft.title);
    let store = carrying::chosen(draft, ask.store);
    let to = store.as_ref().map_or_else(|| "a store".to_owned(), |s| s.name.clone());
    let mut part = draft.beside::<snapshots::Step>(draft.view);
    let take = Take {
        machines: ask.machines.clone(),
        name: format!("mark for {to}").into(),
        note: Default::default(),
        quiet: ask.quiet,
        memory: false,
        ends: Some(LEFT),
    };
    snapshots::take(&mut part, &take);
    let marks: Vec<_> = part.planned().filter_map(mark).collect();
    // What is said of a snapshot that stays is not so of one that goes again.
    part.leave_out(|f| f.stops() || !matches!(f.rule, Rule::Content));
    draft.title = match marks.as_slice() {
        [(machine, ..)] => format!("Back up {} to {to}", crate::runs::Object::Machine(*machine).name(draft.estate())),
        all => format!("Back up {} machines to {to}", all.len()),
    };
    let taken = draft.take_in(part, &[], |f| f, (Step::Snap, Event::Snap));
    let Some(store) = store else { return };
    let mut copies = carrying::Copies::to(&draft.beside(draft.view), &store, marks.len());
    let mut gone: Vec<usize> = Vec::new();
    for (n, (machine, via, snapshot)) in taken.zip(marks) {
        let Some(machine) = draft.estate().machines.get(&machine).cloned() else { continue };
        let mut part = draft.beside::<carrying::Step>(draft.view);
        copies.copy(&mut part, &machine, via, snapshot);
        let mut after = vec![n];
        after.extend(gone.len().checked_sub(AT_ONCE).and_then(|at| gone.get(at)));
        let copied = draft.take_in(part, &after, |f| f, (Step::Carry, Event::Carry));
        let forget = snapshots::Step::Forget {
            machine: machine.id,
            via,
            snapshots: vec![snapshot],
            bytes: Bytes::ZERO,
            time: Span::secs(10).plus(layers::STILL),
        };
        let waits: Vec<usize> = copied.collect();
        gone.push(draft.step(Step::Snap(forget), format!("Release the mark of {}", machine.name), &waits, None));
    }
    draft.found_all(copies.said());
    if !gone.is_empty() {
        let text = format!("Each state is held fast only until it is copied; then it is released. Settings, cards and labels are in the copy, cards keep their addresses only where the machine is put back. Nobody knows that {to} brings a machine back before one did.");
        draft.found(Finding::clear(Rule::Content, "machines", text));
    }
}

/// Of a step that sets a mark: whose, at which host, and which.
fn mark(step: &snapshots::Step) -> Option<(crate::ids::MachineId, crate::ids::HostId, Uuid)> {
    match step {
        snapshots::Step::Take { machine, via, snapshot, .. } => Some((*machine, *via, *snapshot)),
        snapshots::Step::Back { .. } | snapshots::Step::Forget { .. } => None,
    }
}
