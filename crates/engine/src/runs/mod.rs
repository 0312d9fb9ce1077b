//! Orders to devices: taken with a lease, carried out, answered in one transaction with what follows from them.

use crate::{
    Boundary,
    scribe::{Decision, Guard, Refusal, Scribe},
    shared::{Shared, now},
};
use std::{sync::Arc, time::Duration};
use tokio::{
    sync::{OwnedSemaphorePermit, Semaphore},
    task::JoinSet,
    time::{sleep, timeout},
};
use zastrugi_core::{
    event::Event,
    ids::RunId,
    moment::{Moment, Span},
    observe::settle_adopted,
    run::{Fault, FaultKind, Input, Phase, RunState, turn},
    view::View,
};
use zastrugi_drivers::{Outcome, Turn};
use zastrugi_store::{Orders, TakenOrder};

/// Calls of this process at once.
const AT_ONCE: usize = 32;
const SLOWEST_LOOK: Duration = Duration::from_secs(1);

/// How orders are carried out.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Way {
    /// How long an order is ours. A call ends in half of it.
    pub(crate) lease: Span,
    pub(crate) die_at: Option<Boundary>,
}

impl Way {
    /// Kills this process, as a power cut would, if this is where it shall die.
    fn boundary(self, here: Boundary) {
        if self.die_at == Some(here) {
            let me = std::process::id().to_string();
            drop(
                std::process::Command::new("kill")
                    .args(["-9", &me])
                    .status(),
            );
        }
    }
}

pub(crate) fn spawn(
    tasks: &mut JoinSet<()>,
    shared: Arc<Shared>,
    scribe: Scribe,
    orders: Orders,
    way: Way,
) {
    tasks.spawn(dispatch(shared, scribe, orders, way));
}

async fn dispatch(shared: Arc<Shared>, scribe: Scribe, orders: Orders, way: Way) {
    let room = Arc::new(Semaphore::new(AT_ONCE));
    let mut calls = JoinSet::new();
    loop {
        while calls.try_join_next().is_some() {}
        let free = room.available_permits();
        let taken = if free == 0 {
            Ok(vec![])
        } else {
            orders
                .take(i64::try_from(free).unwrap_or(1), way.lease)
                .await
        };
        match taken {
            Ok(taken) if !taken.is_empty() => {
                for order in taken {
                    let Ok(permit) = room.clone().acquire_owned().await else {
                        return;
                    };
                    let task = Task {
                        shared: shared.clone(),
                        scribe: scribe.clone(),
                        orders: orders.clone(),
                        way,
                    };
                    calls.spawn(task.carry_out(order, permit));
                }
            }
            Ok(_) => wait(&shared, &orders).await,
            Err(error) => {
                tracing::warn!(%error, "no orders are taken until the database answers");
                sleep(Duration::from_millis(500)).await;
            }
        }
    }
}

/// Until an order may be due: told so, or by the table, or at the slowest look.
async fn wait(shared: &Shared, orders: &Orders) {
    let due = orders
        .next_due()
        .await
        .ok()
        .flatten()
        .map_or(SLOWEST_LOOK, |s| Duration::from_millis(s.0));
    let pause = due.clamp(Duration::from_millis(10), SLOWEST_LOOK);
    tokio::select! {
        () = shared.orders.notified() => {}
        () = sleep(pause) => {}
    }
}

/// What one order needs.
struct Task {
    shared: Arc<Shared>,
    scribe: Scribe,
    orders: Orders,
    way: Way,
}

impl Task {
    async fn carry_out(self, order: TakenOrder, _permit: OwnedSemaphorePermit) {
        let estate = self.shared.estate();
        let step = order.step;
        let found = estate
            .runs
            .get(&order.run)
            .zip(estate.plans.get(&order.run));
        let running = found
            .and_then(|(run, plan)| run.steps.get(step).zip(plan.steps.get(step)))
            .filter(|(state, _)| state.phase == Phase::Running);
        let Some((state, planned)) = running else {
            // This process is behind the one that wrote the order.
            drop(self.orders.give_back(&order, Span::millis(50)).await);
            return;
        };
        let given_up = found.is_some_and(|(run, _)| run.state == RunState::Cancelling);
        self.way.boundary(Boundary::OrderTaken);
        // The same on every attempt, also after a person said retry; no other installation has it.
        let key = format!(
            "{}.{}.{step}",
            self.shared.drivers.installation().id,
            order.run
        );
        let began = state.began.unwrap_or_else(now);
        let turn = Turn {
            key: &key,
            fence: state.fence,
            waited: now().since(began),
            now: now(),
        };
        let limit = Duration::from_millis(self.way.lease.0 / 2);
        if self.way.die_at == Some(Boundary::CallSent) {
            tokio::spawn(async move {
                sleep(Duration::from_millis(400)).await;
                self.way.boundary(Boundary::CallSent);
            });
        }
        let drivers = &self.shared.drivers;
        let call = async {
            if given_up {
                drivers.give_up(&estate, &planned.step, turn).await
            } else {
                drivers.perform(&estate, &planned.step, turn).await
            }
        };
        let outcome = timeout(limit, call).await;
        let outcome = outcome.unwrap_or_else(|_| {
            let said = "The call took too long.";
            Err(Fault::new(
                FaultKind::TimedOut,
                said,
                "Look whether the device is overloaded; then retry.",
            ))
        });
        self.way.boundary(Boundary::AnswerHad);
        let group = planned.step.group();
        tracing::info!(run = %order.run, step, attempt = order.attempt, group, ok = outcome.is_ok(), "order");
        match &outcome {
            // What stands still is asked again and nothing is written: an upload may be awaited for days.
            Ok(Outcome::NotYet { said }) if !given_up && *said == state.said => {
                drop(self.orders.give_back(&order, planned.step.pause()).await);
            }
            Ok(Outcome::Unsettled) => {
                drop(self.orders.give_back(&order, planned.step.pause()).await);
            }
            _ => report(&self.scribe, &order, outcome).await,
        }
        self.way.boundary(Boundary::ResultWritten);
    }
}

/// Writes the result. It is tried again while the order is ours: a lost result would mean a second call.
async fn report(scribe: &Scribe, order: &TakenOrder, outcome: Result<Outcome, Fault>) {
    let guard = Guard::Order {
        run: order.run,
        step: order.step,
        token: order.token,
    };
    for pause in [50, 100, 200, 400, 800, 1600, 3200, 6400, 10_000] {
        let (run, step, result) = (order.run, order.step, outcome.clone());
        let written = scribe
            .append(guard, move |view, at| {
                Ok(follow(view, run, step, result, at))
            })
            .await;
        match written {
            Ok(_) | Err(Refusal::NotOurs) => return,
            Err(refusal) => {
                tracing::warn!(?refusal, run = %order.run, step, "a result was not written yet");
                sleep(Duration::from_millis(pause)).await;
            }
        }
    }
}

/// What a device's answer means for the estate and the run.
fn follow(
    view: &View,
    run: RunId,
    step: usize,
    result: Result<Outcome, Fault>,
    at: Moment,
) -> Decision {
    let by = view
        .estate
        .runs
        .get(&run)
        .map_or_else(zastrugi_core::permits::Who::itself, |r| r.by.clone());
    let (events, input) = match result {
        Ok(Outcome::Done { events, said }) => (
            settle_adopted(&view.estate, events),
            Input::Succeeded { step, said },
        ),
        Ok(Outcome::NotYet { said }) => (vec![], Input::NotYet { step, said }),
        // Never written.
        Ok(Outcome::Unsettled) => {
            return Decision::nothing(by);
        }
        Err(fault) => (vec![], Input::Failed { step, fault }),
    };
    let mut fork = (*view.estate).clone();
    fork.absorb_all(&events);
    let mut all: Vec<Event> = events;
    all.extend(turn(&view.with(fork), run, input, at));
    Decision {
        events: all,
        who: by,
        run: Some(run),
        request: None,
    }
}
