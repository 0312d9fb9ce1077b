//! What is written at this site gets to the other: once while machines run, and what they wrote meanwhile once they are off.

use super::{Draft, Event, Step, member::Goes};
use crate::{
    estate::{Road, Way},
    ids::HostId,
    layers,
    moment::Span,
    road,
    rooms::{
        machines::{self, AfterGrace, PowerAct},
        replicas,
        replicating::{self, Brought},
        snapshots::{self, Quiet},
    },
    units::Bytes,
};
use uuid::Uuid;

/// So many go over at the same time: they share the line.
const AT_ONCE: usize = 4;

impl From<replicating::Step> for Step {
    fn from(step: replicating::Step) -> Step {
        match step {
            replicating::Step::Machine(step) => Step::Machine(step),
            replicating::Step::Snap(step) => Step::Snap(step),
            replicating::Step::Replica(step) => Step::Replica(step),
        }
    }
}

impl From<replicating::Event> for Event {
    fn from(event: replicating::Event) -> Event {
        match event {
            replicating::Event::Machine(event) => Event::Machine(event),
            replicating::Event::Snap(event) => Event::Snap(event),
            replicating::Event::Replica(event) => Event::Replica(event),
            replicating::Event::Job(event) => Event::Job(event),
        }
    }
}

/// The last state of one, once it is there and the same at both sides.
#[derive(Clone, Copy)]
pub(super) struct Held {
    pub snapshot: Uuid,
    pub via: HostId,
    /// The step that compared both.
    pub equal: usize,
}

/// One after the other, so many at once: the numbers of their last steps, beside those whom `bring` answers something.
fn in_turn<T>(all: &[Goes], mut bring: impl FnMut(&Goes, &[usize]) -> Option<(T, usize)>) -> Vec<Option<T>> {
    let mut last: Vec<usize> = Vec::new();
    let each = all.iter().map(|goes| {
        let turn = last.len().checked_sub(AT_ONCE).and_then(|at| last.get(at)).copied();
        let (made, step) = bring(goes, turn.as_slice())?;
        last.push(step);
        Some(made)
    });
    each.collect()
}

fn copied(draft: &mut Draft<'_>, goes: &Goes, road: Road<'_>, (name, quiet, bytes): (&str, Quiet, Bytes), after: &[usize]) -> Brought {
    let view = draft.view.clone();
    let mut part: road::Draft<'_, replicating::Step> = draft.beside(&view);
    let mut brought = goes.once.brought(&mut part, (&goes.job, road), (name, quiet, bytes), &[]);
    let own = draft.take_in(part, after, |f| f, (Step::from, Event::from));
    brought.marked += own.start;
    brought.followed += own.start;
    brought
}

/// All that are on are brought up to date while they run: the marks that are left of it, and the last steps.
pub(super) fn before(draft: &mut Draft<'_>, all: &[Goes], road: Road<'_>, gate: usize) -> (Vec<Option<Uuid>>, Vec<usize>) {
    let mut last = vec![gate];
    let marks = in_turn(all, |goes, turn| {
        goes.was_on().then_some(())?;
        let quiet = if goes.job.quiet { Quiet::IfPossible } else { Quiet::No };
        let after: Vec<usize> = [gate].into_iter().chain(turn.iter().copied()).collect();
        let brought = copied(draft, goes, road, ("mark before it goes over", quiet, goes.once.bytes), &after);
        last.push(brought.followed);
        Some((brought.snapshot, brought.followed))
    });
    (marks, last)
}

/// The last stage stops first; each once the one after it is off.
pub(super) fn stopped(draft: &mut Draft<'_>, all: &[Goes], (grace, then): (Span, AfterGrace), gate: &[usize]) -> Vec<usize> {
    let mut gate = gate.to_vec();
    let stages = all.iter().map(|g| g.stage).max().map_or(0, |n| n + 1);
    for stage in (0..stages).rev() {
        let own = all.iter().filter(|g| g.stage == stage && g.was_on());
        let machines: Vec<_> = own.map(|g| g.machine.id).collect();
        if machines.is_empty() {
            continue;
        }
        let rest = replicas::Step::Rest { machines: machines.clone() };
        let rest = draft.step(Step::Replica(rest), format!("Let {} machines be off", machines.len()), &gate, None);
        let view = draft.view.clone();
        let mut part: road::Draft<'_, machines::Step> = draft.beside(&view);
        machines::power(&mut part, &machines, PowerAct::Stop { grace, then });
        // That they shall be off is so once it is their turn.
        part.forget_intents();
        let steps = draft.take_in(part, &[rest], |f| f, (Step::Machine, Event::Machine));
        gate = steps.collect();
    }
    gate
}

/// What was written since goes over, and both sides say that they hold the same.
pub(super) fn rest(draft: &mut Draft<'_>, all: &[Goes], road: Road<'_>, (meanwhile, gate): (&[Bytes], &[usize])) -> Vec<Option<Held>> {
    let way = Way { pair: road.pair.id, from: road.from.site };
    let to = road.to.site_name(draft.estate());
    let mut bytes = meanwhile.iter().copied();
    in_turn(all, |goes, turn| {
        let bytes = bytes.next().unwrap_or_default();
        let after: Vec<usize> = gate.iter().copied().chain(turn.iter().copied()).collect();
        let name = format!("as it went over to {to}");
        let brought = copied(draft, goes, road, (&name, Quiet::No, bytes), &after);
        let compare = replicas::Step::Compare {
            machine: goes.machine.id,
            via: brought.via,
            snapshot: brought.snapshot,
            way,
            replica: goes.replica.id,
            to: brought.to,
            time: Span::secs(1),
        };
        let title = format!("Compare {} with {}", goes.machine.name, goes.replica.name);
        let equal = draft.step(Step::Replica(compare), title, &[brought.followed], None);
        Some((Held { snapshot: brought.snapshot, via: brought.via, equal }, equal))
    })
}

/// Marks that nobody needs any more, of what is left at this side.
pub(super) fn released(draft: &mut Draft<'_>, all: &[(&Goes, Held, Option<Uuid>)], after: &[usize]) -> Vec<usize> {
    let mut steps = Vec::new();
    for (goes, held, mark) in all {
        let Some(mark) = mark else { continue };
        let forget = snapshots::Step::Forget {
            machine: goes.replica.id,
            via: held.via,
            snapshots: vec![*mark],
            bytes: Bytes::ZERO,
            time: Span::secs(10).plus(layers::STILL),
        };
        steps.push(draft.step(Step::Snap(forget), format!("Release a mark of {}", goes.behind), after, None));
    }
    steps
}
