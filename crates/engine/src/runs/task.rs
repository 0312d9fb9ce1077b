//! One order: the call, and its result written with what follows from it.

use super::{Way, pace};
use crate::{
    Boundary,
    scribe::{Decision, Guard, Refusal, Scribe, Sight},
    shared::{Shared, now},
};
use std::{sync::Arc, time::Duration};
use tokio::time::{sleep, timeout};
use zastrugi_core::{
    ids::RunId,
    moment::Span,
    observe::settle_adopted,
    permits::Who,
    road::{Input, Work, turn},
    rooms::{Event, Plan, absorb_all},
    runs::{Fault, FaultKind, Phase, RunState, StepState},
    view::View,
};
use zastrugi_drivers::{Outcome, Turn};
use zastrugi_store::{Orders, TakenOrder};

/// What one order needs.
pub(super) struct Task {
    pub(super) shared: Arc<Shared>,
    pub(super) scribe: Scribe,
    pub(super) orders: Orders,
    pub(super) way: Way,
}

/// What became of an order.
#[derive(Debug, Clone)]
enum Came {
    Back(Result<Outcome, Fault>),
    /// The run was given up before the device was told.
    Unsent,
}

impl Task {
    pub(super) async fn carry_out(self, order: TakenOrder) {
        let now = self.shared.snapshot();
        let found = now.runs.get(order.run).zip(now.plans.get(&order.run));
        let Some((run, plan)) = found else {
            return self.put_back(&order).await;
        };
        let running = run.step(order.step).filter(|s| s.phase == Phase::Running);
        let Some(state) = running else {
            return self.put_back(&order).await;
        };
        let given_up = run.state == RunState::Cancelling;
        if self.way.ends.at(&order, Boundary::OrderTaken).await {
            return;
        }
        // What goes on by itself was told before, by an order that has ended.
        let untold = !order.sent && state.tail.is_none();
        let came = if given_up && untold {
            Came::Unsent
        } else {
            match self.call(&order, plan, state, given_up).await {
                Some(outcome) => Came::Back(outcome),
                None => return,
            }
        };
        if self.way.ends.at(&order, Boundary::AnswerHad).await {
            return;
        }
        let pause = plan
            .steps
            .get(order.step)
            .map_or(Span::secs(1), |p| p.step.pause());
        match &came {
            // How far it is is a measurement: nothing is written but beside the order. After a fault it counts: it got on.
            Came::Back(Ok(Outcome::NotYet { said })) if !given_up && state.attempt <= 1 => {
                drop(self.orders.give_back(&order, pause, said).await);
            }
            Came::Back(Ok(Outcome::Unsettled)) => {
                drop(self.orders.give_back(&order, pause, "").await);
            }
            Came::Back(_) | Came::Unsent => self.report(&order, came).await,
        }
        self.way.ends.at(&order, Boundary::ResultWritten).await;
    }

    /// This process is behind the one that wrote the order.
    async fn put_back(&self, order: &TakenOrder) {
        drop(self.orders.put_back(order, Span::millis(50)).await);
    }

    /// None: this task has ended while the call was under way.
    async fn call(
        &self,
        order: &TakenOrder,
        plan: &Plan,
        state: &StepState,
        given_up: bool,
    ) -> Option<Result<Outcome, Fault>> {
        let Some(planned) = plan.steps.get(order.step) else {
            let said = "There is no such step.";
            return Some(Err(Fault::new(FaultKind::Premise, said, "Cancel the run.")));
        };
        let epoch = self.shared.epoch();
        let drivers = &self.shared.drivers;
        // The same on every attempt, also after a person said retry; no other installation or history has it.
        let key = format!(
            "{}.{epoch}.{}.{}",
            drivers.installation().id,
            order.run,
            order.step
        );
        let turn = Turn {
            key: &key,
            epoch,
            fence: state.fence,
            waited: now().since(state.began.unwrap_or_else(now)),
            now: now(),
            beside: order.beside,
        };
        let estate = self.shared.estate();
        let call = async {
            if given_up {
                drivers.give_up(&estate, &planned.step, turn).await
            } else {
                drivers.perform(&estate, &planned.step, turn).await
            }
        };
        let limit = Duration::from_millis(self.way.lease.0 / 2);
        let asked = now();
        let called = self.way.ends.during(order, timeout(limit, call)).await?;
        let outcome = called.unwrap_or_else(|_| {
            let said = "The call took too long.";
            let remedy = "Look whether the device is overloaded; then retry.";
            Err(Fault::new(FaultKind::TimedOut, said, remedy))
        });
        if matches!(outcome, Ok(Outcome::Done { .. })) && state.attempt <= 1 {
            let there = now();
            let began = there.since(state.began.unwrap_or(asked));
            pace::note(&self.shared, &planned.step, there.since(asked), began);
        }
        let (group, step) = (planned.step.group(), order.step);
        tracing::info!(run = %order.run, step, attempt = order.attempt, group, ok = outcome.is_ok(), "order");
        Some(outcome)
    }

    /// Writes the result. It is tried again while the order is ours: a lost result would mean a second call.
    async fn report(&self, order: &TakenOrder, came: Came) {
        let (run, step) = (order.run, order.step);
        let guard = Guard::Order {
            run,
            step,
            token: order.token,
        };
        for pause in [50, 100, 200, 400, 800, 1600, 3200, 6400, 10_000] {
            let came = came.clone();
            let written = self
                .scribe
                .append(guard, move |sight| {
                    Ok(follow(&sight, run, step, came.clone()))
                })
                .await;
            match written {
                Ok(_) | Err(Refusal::NotOurs) => return,
                Err(refusal) => {
                    tracing::warn!(?refusal, %run, step, "a result was not written yet");
                    sleep(Duration::from_millis(pause)).await;
                }
            }
        }
    }
}

/// What a device's answer means for the estate and the run.
fn follow(sight: &Sight<'_>, run: RunId, step: usize, came: Came) -> Decision {
    let by = sight.view.runs.get(run);
    let by = by.map_or_else(Who::itself, |r| r.by.clone());
    let (events, input) = match came {
        Came::Back(Ok(Outcome::Done { events, said })) => (
            settle_adopted(&sight.view.estate, events),
            Input::Succeeded { step, said },
        ),
        Came::Back(Ok(Outcome::NotYet { said })) => (vec![], Input::NotYet { step, said }),
        // Never written.
        Came::Back(Ok(Outcome::Unsettled)) => return Decision::nothing(by),
        Came::Back(Err(fault)) => (vec![], Input::Failed { step, fault }),
        Came::Unsent => (vec![], Input::Unsent { step }),
    };
    let mut fork = zastrugi_core::rooms::World {
        estate: (*sight.view.estate).clone(),
        runs: (*sight.view.runs).clone(),
        plans: sight.plans.clone(),
    };
    absorb_all(&mut fork, &events);
    let then = View {
        estate: Arc::new(fork.estate),
        ..sight.view.clone()
    };
    let mut all: Vec<Event> = events;
    all.extend(turn(&then, sight.plans, run, input, sight.at));
    Decision {
        events: all,
        who: by,
        run: Some(run),
        request: None,
    }
}
