//! The manager's own book: what its database holds, and where whoever guards for it writes.

use crate::{
    runs::pace,
    scribe::{Decision, Guard, Scribe, Sight},
    shared::Shared,
};
use std::{
    collections::BTreeMap,
    sync::{
        Arc, Mutex, PoisonError,
        atomic::{AtomicBool, Ordering},
    },
    time::{Duration, Instant},
};
use tokio::sync::watch;
use zastrugi_core::{
    epoch::Epoch,
    guard::Told,
    ids::{ClusterId, HostId, MachineId, Revision},
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
    pub(super) ears: Ears,
}

/// When this process last heard each host since it began to lead.
#[derive(Clone)]
pub(super) struct Ears {
    began: Instant,
    heard: Arc<Mutex<BTreeMap<HostId, Instant>>>,
}

/// Hosts that live are heard within this after a process begins to lead.
const LISTENS: Duration = Duration::from_secs(5);

impl Ears {
    pub(super) fn new() -> Self {
        Ears {
            began: Instant::now(),
            heard: Arc::default(),
        }
    }
    pub(super) fn hear(&self, host: HostId) {
        let mut heard = self.heard.lock().unwrap_or_else(PoisonError::into_inner);
        heard.insert(host, Instant::now());
    }
    /// Not every host that lives was heard yet.
    pub(super) fn are_new(&self) -> bool {
        self.began.elapsed() < LISTENS
    }
    /// What was stored of a host before says nothing of it now.
    pub(super) fn hears(&self, host: HostId) -> bool {
        let heard = self.heard.lock().unwrap_or_else(PoisonError::into_inner);
        heard.get(&host).is_some_and(|at| at.elapsed() < LISTENS)
    }
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
        let head = &self.shared.snapshot().head;
        head.held.is_none() && head.automation.is_none()
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
