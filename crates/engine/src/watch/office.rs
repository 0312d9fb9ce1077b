//! The manager's own book: what its database holds, and where whoever guards for it writes.

use crate::{
    runs::pace,
    scribe::{Decision, Guard, Scribe, Sight},
    shared::Shared,
};
use std::sync::{
    Arc,
    atomic::{AtomicBool, Ordering},
};
use tokio::sync::watch;
use zastrugi_core::{
    epoch::Epoch,
    guard::Told,
    ids::{ClusterId, MachineId, Revision},
    moment::Span,
    permits::Who,
    recounting::{is_stale, retell},
    rooms::Event,
    runs::Object,
    view::View,
};
use zastrugi_drivers::Drivers;
use zastrugi_keeper::{Book, Written};
use zastrugi_store::Held;

#[derive(Clone)]
pub(super) struct Office {
    pub(super) shared: Arc<Shared>,
    pub(super) scribe: Scribe,
    pub(super) held: Held,
}

impl Office {
    /// Answers whether it was written; what only a leader may write is no longer ours to write otherwise.
    pub(super) async fn append(
        &self,
        events: impl Fn(&Sight<'_>) -> Vec<Event> + Send + Sync + 'static,
    ) -> bool {
        let decide = move |sight: Sight<'_>| {
            Ok(Decision {
                events: events(&sight),
                ..Decision::nothing(Who::itself())
            })
        };
        match self.scribe.append(Guard::Leader(self.held), decide).await {
            Ok(_) => true,
            Err(refusal) => {
                tracing::debug!(?refusal, "what a guard told was not written");
                false
            }
        }
    }
}

impl Book for Office {
    fn view(&self) -> View {
        self.shared.view()
    }
    fn changed(&self) -> watch::Receiver<Revision> {
        self.shared.revisions()
    }
    fn epoch(&self) -> Epoch {
        self.shared.epoch()
    }
    fn drivers(&self) -> &Drivers {
        &self.shared.drivers
    }
    fn busy(&self, machine: MachineId) -> bool {
        self.shared.snapshot().runs.holds(Object::Machine(machine))
    }
    fn may_act(&self) -> bool {
        self.shared.snapshot().head.held.is_none()
    }
    fn booted(&self, took: Span) {
        pace::note_boot(&self.shared, took);
    }

    async fn write(&self, cluster: ClusterId, told: Told) -> Written {
        tracing::info!(?told, %cluster, "a guard tells");
        let stale = Arc::new(AtomicBool::new(false));
        let seen = stale.clone();
        let written = self
            .append(move |sight| {
                // It was heard while this was on its way: nothing of it is so any more.
                let old = is_stale(sight.view, &told);
                seen.store(old, Ordering::Relaxed);
                match old {
                    true => vec![],
                    false => retell(sight.view, sight.plans, cluster, &told, sight.at),
                }
            })
            .await;
        match (written, stale.load(Ordering::Relaxed)) {
            (true, true) => Written::Stale,
            (true, false) => Written::Yes,
            (false, _) => Written::No,
        }
    }

    async fn saw(&self, seen: Event) {
        self.append(move |_| vec![seen.clone()]).await;
    }
}
