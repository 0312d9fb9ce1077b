//! Orders to devices: taken with a lease, carried out, answered in one transaction with what follows from them.

use crate::{
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
    run::{Fault, FaultKind, Input, Phase, turn},
    view::View,
};
use zastrugi_drivers::{Outcome, Turn};
use zastrugi_store::{Orders, TakenOrder};

/// Calls of this process at once.
const AT_ONCE: usize = 32;
/// How long an order is ours. Every call ends well before.
const LEASE: Span = Span::secs(30);
const CALL: Duration = Duration::from_secs(15);
const SLOWEST_LOOK: Duration = Duration::from_secs(1);

pub(crate) fn spawn(tasks: &mut JoinSet<()>, shared: Arc<Shared>, scribe: Scribe, orders: Orders) {
    tasks.spawn(dispatch(shared, scribe, orders));
}

async fn dispatch(shared: Arc<Shared>, scribe: Scribe, orders: Orders) {
    let room = Arc::new(Semaphore::new(AT_ONCE));
    let mut calls = JoinSet::new();
    loop {
        while calls.try_join_next().is_some() {}
        let free = room.available_permits();
        let taken = if free == 0 { Ok(vec![]) } else { orders.take(i64::try_from(free).unwrap_or(1), LEASE).await };
        match taken {
            Ok(taken) if !taken.is_empty() => {
                for order in taken {
                    let Ok(permit) = room.clone().acquire_owned().await else { return };
                    calls.spawn(carry_out(shared.clone(), scribe.clone(), orders.clone(), order, permit));
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
    let due = orders.next_due().await.ok().flatten().map_or(SLOWEST_LOOK, |s| Duration::from_millis(s.0));
    let pause = due.clamp(Duration::from_millis(10), SLOWEST_LOOK);
    tokio::select! {
        () = shared.orders.notified() => {}
        () = sleep(pause) => {}
    }
}

async fn carry_out(
    shared: Arc<Shared>,
    scribe: Scribe,
    orders: Orders,
    order: TakenOrder,
    _permit: OwnedSemaphorePermit,
) {
    let estate = shared.estate();
    let step = order.step;
    let found = estate.runs.get(&order.run).zip(estate.plans.get(&order.run));
    let Some((state, planned)) = found.and_then(|(run, plan)| run.steps.get(step).zip(plan.steps.get(step))) else {
        // This process is behind the one that wrote the order.
        drop(orders.give_back(&order, Span::millis(50)).await);
        return;
    };
    if state.phase != Phase::Running {
        drop(orders.give_back(&order, Span::millis(50)).await);
        return;
    }
    let key = format!("{}.{step}.{}", order.run, state.fence.0);
    let began = state.began.unwrap_or_else(now);
    let attempt = Turn { key: &key, fence: state.fence, waited: now().since(began), now: now() };
    let outcome = timeout(CALL, shared.drivers.perform(&estate, &planned.step, attempt)).await;
    let outcome = outcome.unwrap_or_else(|_| {
        let said = "The call took longer than 15 s.";
        Err(Fault::new(FaultKind::TimedOut, said, "Look whether the device is overloaded; then retry."))
    });
    tracing::info!(run = %order.run, step, attempt = order.attempt, group = planned.step.group(), ok = outcome.is_ok(), "order");
    report(&scribe, &order, outcome).await;
}

/// Writes the result. It is tried again while the order is ours: a lost result would mean a second call.
async fn report(scribe: &Scribe, order: &TakenOrder, outcome: Result<Outcome, Fault>) {
    let guard = Guard::Order { run: order.run, step: order.step, token: order.token };
    for pause in [50, 100, 200, 400, 800, 1600, 3200, 6400, 10_000] {
        let (run, step, result) = (order.run, order.step, outcome.clone());
        let written = scribe.append(guard, move |view, at| Ok(follow(view, run, step, result, at))).await;
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
fn follow(view: &View, run: RunId, step: usize, result: Result<Outcome, Fault>, at: Moment) -> Decision {
    let by = view.estate.runs.get(&run).map_or_else(zastrugi_core::permits::Who::itself, |r| r.by.clone());
    let (events, input) = match result {
        Ok(Outcome::Done { events, said }) => (settle_adopted(&view.estate, events), Input::Succeeded { step, said }),
        Ok(Outcome::NotYet { said }) => (vec![], Input::NotYet { step, said }),
        Err(fault) => (vec![], Input::Failed { step, fault }),
    };
    let mut fork = (*view.estate).clone();
    fork.absorb_all(&events);
    let mut all: Vec<Event> = events;
    all.extend(turn(&view.with(fork), run, input, at));
    Decision { events: all, who: by, run: Some(run), request: None }
}
