//! The checks before machines are backed up (rules, section 17): those of a snapshot, and those of the copy.

use super::{BackUp, Draft, Step};
use crate::{
    estate::Machine,
    finding::{Finding, Rule},
    ids::{HostId, MachineId},
    layers,
    moment::Span,
    runs::Object,
    rooms::{
        backups::Event,
        carrying,
        snapshots::{self, Take},
    },
    units::Bytes,
};
use std::sync::Arc;
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
    draft.title = match marks.as_slice() {
        [(machine, ..)] => format!("Back up {} to {to}", Object::Machine(*machine).name(draft.estate())),
        all => format!("Back up {} machines to {to}", all.len()),
    };
    // What is said of a snapshot that stays is not so of one that goes again.
    let said = part.findings().iter().filter(|f| f.stops() || f.rule != Rule::Content);
    draft.found_all(said.cloned().collect::<Vec<_>>());
    let Some(store) = store else { return };
    let mut copies = carrying::Copies::to(&draft.beside(draft.view), &store, marks.len());
    let mut released: Vec<usize> = Vec::new();
    for (machine, via, take) in marks {
        let Some(machine) = draft.estate().machines.get(&machine).cloned() else { continue };
        // A mark holds room for what is written meanwhile: it is set when its copy can begin.
        let turn = released.len().checked_sub(AT_ONCE).and_then(|at| released.get(at));
        let after: Vec<usize> = turn.copied().into_iter().collect();
        released.push(one(draft, &mut copies, &machine, (via, take), &after));
    }
    draft.found_all(copies.said());
    if !released.is_empty() {
        let text = format!("Each state is held fast only until it is copied; then it is released. Settings, cards and labels are in the copy, cards keep their addresses only where the machine is put back. Nobody knows that {to} brings a machine back before one did.");
        draft.found(Finding::clear(Rule::Content, "machines", text));
    }
}

/// Marked, copied, released; the number of the last step.
fn one(
    draft: &mut Draft<'_>,
    copies: &mut carrying::Copies<'_>,
    machine: &Arc<Machine>,
    (via, take): (HostId, snapshots::Step),
    after: &[usize],
) -> usize {
    let name = &machine.name;
    let Some(snapshot) = taken(&take) else { return 0 };
    let marked = draft.step(Step::Snap(take), format!("Mark {name}"), after, Some("machines"));
    let mut part = draft.beside::<carrying::Step>(draft.view);
    copies.copy(&mut part, machine, via, snapshot);
    let copied: Vec<usize> = draft.take_in(part, &[marked], |f| f, (Step::Carry, Event::Carry)).collect();
    let forget = snapshots::Step::Forget {
        machine: machine.id,
        via,
        snapshots: vec![snapshot],
        bytes: Bytes::ZERO,
        time: Span::secs(10).plus(layers::STILL),
    };
    draft.step(Step::Snap(forget), format!("Release the mark of {name}"), &copied, None)
}

/// A step that sets a mark: whose, at which host.
fn mark(step: &snapshots::Step) -> Option<(MachineId, HostId, snapshots::Step)> {
    taken(step)?;
    Some((step.machine(), step.via(), step.clone()))
}

fn taken(step: &snapshots::Step) -> Option<Uuid> {
    match step {
        snapshots::Step::Take { snapshot, .. } => Some(*snapshot),
        snapshots::Step::Back { .. } | snapshots::Step::Forget { .. } => None,
    }
}
