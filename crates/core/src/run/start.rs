//! From an accepted plan to a run.

use super::{Run, turn};
use crate::{
    event::Event, ids::RunId, moment::Moment, permits::Who, plan::AcceptedPlan, view::View,
};
use std::collections::VecDeque;

/// The events that begin a run: what it holds, its record, and its first orders. A plan without steps is recorded
/// and closed at once.
pub fn begin(
    view: &View,
    accepted: AcceptedPlan,
    by: Who,
    request: uuid::Uuid,
    now: Moment,
) -> (RunId, Vec<Event>) {
    let AcceptedPlan {
        title,
        intents,
        plan,
    } = accepted;
    let id = plan.run;
    let run = Run::new(id, title, by, request, plan.steps.len(), now);
    let mut events: VecDeque<Event> = VecDeque::from(intents);
    events.push_front(Event::RunStarted {
        run: Box::new(run),
        plan: Box::new(plan),
    });
    let mut fork = (*view.estate).clone();
    fork.absorb_all(&events);
    events.extend(turn(&view.with(fork), id, super::Input::Start, now));
    (id, events.into())
}
