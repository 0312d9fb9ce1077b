//! From an accepted plan to a run.

use super::{AcceptedPlan, Input, Plans, RunEvent, Work, World, turn};
use crate::{ids::RunId, moment::Moment, permits::Who, runs::Run, view::View};
use std::sync::Arc;

/// The events that begin a run: its record, what it holds, and its first orders. A plan without steps is recorded
/// and closed at once.
pub fn begin<A, S>(
    view: &View,
    plans: &Plans<A, S>,
    accepted: AcceptedPlan<A, S>,
    by: Who,
    request: uuid::Uuid,
    now: Moment,
) -> (RunId, Vec<S::Event>)
where
    A: Clone,
    S: Work,
    S::Event: From<RunEvent<A, S>>,
{
    let AcceptedPlan {
        title,
        intents,
        plan,
    } = accepted;
    let id = plan.run;
    let run = Run::new(id, title, by, request, plan.steps.len(), now);
    let mut fork = World {
        estate: (*view.estate).clone(),
        runs: (*view.runs).clone(),
        plans: plans.clone(),
    };
    let started = RunEvent::Started {
        run: Box::new(run),
        plan: Box::new(plan),
    };
    fork.absorb_run(&started);
    let mut events = vec![started.into()];
    for intent in intents {
        fork.absorb(&intent);
        events.push(intent);
    }
    let then = View {
        runs: Arc::new(fork.runs),
        ..view.with(fork.estate)
    };
    events.extend(turn(&then, &fork.plans, id, Input::Start, now));
    (id, events)
}
