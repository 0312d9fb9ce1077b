//! A batch while it is decided: each decision sees what those before it will have written.

use super::{Append, Decision, Guard, Refusal, Sight, guards::Guards};
use crate::shared::{Shared, now};
use std::{
    panic::{AssertUnwindSafe, catch_unwind},
    sync::Arc,
};
use uuid::Uuid;
use zastrugi_core::{
    ids::RunId,
    moment::Moment,
    permits::Who,
    road::{RunEvent, Tale},
    rooms::{Change, Event, World, absorb},
    view::View,
};
use zastrugi_store::{Batch, EventLine, NewOrder, StoreError};

pub(super) struct Draft {
    pub(super) world: World,
    pub(super) change: Change,
    pub(super) lines: Vec<EventLine>,
    pub(super) new: Vec<NewOrder>,
    pub(super) done: Vec<(RunId, usize)>,
    pub(super) requests: Vec<(Uuid, RunId)>,
}

impl Draft {
    pub(super) fn of(world: World) -> Self {
        Draft {
            world,
            change: Change::default(),
            lines: vec![],
            new: vec![],
            done: vec![],
            requests: vec![],
        }
    }
    pub(super) fn is_empty(&self) -> bool {
        self.change.is_empty()
            && self.lines.is_empty()
            && self.new.is_empty()
            && self.done.is_empty()
    }

    /// Lets one append decide, and takes in what it decided or says why it may not.
    ///
    /// # Errors
    /// [`StoreError`] when the database doesn't say whether it may: nobody of this batch gets through then.
    pub(super) async fn decide(
        &mut self,
        shared: &Shared,
        batch: &mut Batch,
        guards: &mut Guards,
        append: &Append,
    ) -> Result<Result<Option<RunId>, Refusal>, StoreError> {
        let forbids = guards.forbids(batch, append.guard, &self.requests);
        if let Some(refusal) = forbids.await? {
            return Ok(Err(refusal));
        }
        let view = View {
            estate: Arc::new(self.world.estate.clone()),
            runs: Arc::new(self.world.runs.clone()),
            progress: Arc::default(),
            loads: shared.loads.load_full(),
            evidence: shared.evidence.load_full(),
            pace: shared.pace.load_full(),
            macs: **shared.macs.load(),
        };
        let at = now();
        let sight = Sight {
            view: &view,
            plans: &self.world.plans,
            at,
        };
        // One decision that fails in itself must not take the others with it; nothing of it has been taken in yet.
        let decided = catch_unwind(AssertUnwindSafe(|| (append.decide)(sight)));
        let decision = match decided {
            Ok(Ok(decision)) => decision,
            Ok(Err(refusal)) => return Ok(Err(refusal)),
            Err(_) => {
                tracing::error!("a decision failed in itself");
                let words = "Zastrugi failed while it decided this; its log says where";
                return Ok(Err(Refusal::Unavailable(words.into())));
            }
        };
        if let Guard::Order { run, step, .. } = append.guard {
            self.done.push((run, step));
        }
        if let (Some(request), Some(run)) = (decision.request, decision.run) {
            self.requests.push((request, run));
        }
        let run = decision.run;
        self.take(decision, at);
        Ok(Ok(run))
    }

    pub(super) fn take(&mut self, decision: Decision, at: Moment) {
        for event in decision.events {
            self.fold(&event, &decision.who, decision.run, at);
        }
    }

    fn fold(&mut self, event: &Event, who: &Who, run: Option<RunId>, at: Moment) {
        // What is new of something is told against what it was; names of what comes into being are only known after.
        let before = self.world.estate.clone();
        let change = absorb(&mut self.world, event);
        let told = if change.is_empty() && event.is_sighting() {
            None
        } else if change.estate.adds(&before) {
            event.tell(&self.world.estate)
        } else {
            event
                .tell(&before)
                .or_else(|| event.tell(&self.world.estate))
        };
        self.change.merge(change);
        let mut about = run;
        if let Event::Work(event) = event {
            about = Some(event.run());
            if let RunEvent::Ordered {
                run,
                step,
                attempt,
                after,
                device,
                urgency,
                carried_at,
            } = event
            {
                self.new.push(NewOrder {
                    run: *run,
                    step: *step,
                    attempt: *attempt,
                    after: *after,
                    device: device.clone(),
                    urgency: *urgency,
                    carried_at: carried_at.clone(),
                });
            }
        }
        self.lines.extend(told.map(|entry| EventLine {
            at,
            who: who.clone(),
            run: about,
            entry,
        }));
    }
}
