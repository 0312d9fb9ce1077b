//! The leader: a lease of 10 s, renewed every 2 s; its holder stops at 7 s counted from sending the renewal.

use super::{array, host, switch};
use crate::{
    desk::start_as,
    scribe::Scribe,
    shared::{Shared, now},
};
use std::{
    collections::BTreeMap,
    sync::{Arc, Mutex, PoisonError, atomic::Ordering},
    time::{Duration, Instant},
};
use time::OffsetDateTime;
use tokio::{task::AbortHandle, task::JoinSet, time::sleep};
use uuid::Uuid;
use zastrugi_core::{
    ids::{ArrayId, HostId, SwitchId},
    loads::HostLoad,
    moment::Span,
    permits::{Permits, Role, Who},
    proposal::Proposal,
};
use zastrugi_store::{Held, Leases, Measurements};

const LEASE: Span = Span::secs(10);
const RENEW: Duration = Duration::from_secs(2);
const STOP: Duration = Duration::from_secs(7);

/// Samples that wait to be written.
pub(super) type Samples = Arc<Mutex<BTreeMap<HostId, HostLoad>>>;

pub(crate) async fn lead(shared: Arc<Shared>, scribe: Scribe) {
    let holder = Uuid::new_v4();
    let leases = Leases::new(shared.pool.clone());
    let measurements = Measurements::new(shared.pool.clone());
    let mut reign: Option<Reign> = None;
    let mut renewed = Instant::now();
    loop {
        let sent = Instant::now();
        match leases.lead(holder, LEASE).await {
            Ok(Some(held)) => {
                renewed = sent;
                if reign.as_ref().is_none_or(|r| r.held != held) {
                    tracing::info!(term = held.term, "this process leads");
                    reign = Some(Reign::new(held));
                }
            }
            Ok(None) => reign = None,
            Err(error) => tracing::debug!(%error, "the leader's lease was not renewed"),
        }
        if renewed.elapsed() > STOP {
            reign = None;
        }
        shared.leads.store(reign.is_some(), Ordering::Relaxed);
        match &mut reign {
            Some(reign) => reign.tend(&shared, &scribe, &measurements).await,
            None => follow(&shared, &measurements).await,
        }
        // A host claimed a moment ago is followed at once.
        let mut revisions = shared.revisions();
        tokio::select! {
            () = sleep(RENEW) => {}
            _ = revisions.changed(), if reign.is_some() && sent.elapsed() > Duration::from_millis(200) => sleep(Duration::from_millis(200)).await,
        }
    }
}

/// Processes that don't lead read loads from the table.
async fn follow(shared: &Shared, measurements: &Measurements) {
    if let Ok(samples) = measurements.latest().await {
        shared.loads.rcu(|loads| {
            let mut loads = (**loads).clone();
            samples
                .iter()
                .for_each(|(host, sample)| loads.take(*host, sample.clone()));
            loads
        });
        shared.loads_taken(now());
    }
}

struct Reign {
    held: Held,
    tasks: JoinSet<()>,
    followed: BTreeMap<HostId, (String, AbortHandle)>,
    arrays: BTreeMap<ArrayId, AbortHandle>,
    switches: BTreeMap<SwitchId, AbortHandle>,
    samples: Samples,
    wrote: Instant,
    tended: Option<Instant>,
}

impl Reign {
    fn new(held: Held) -> Self {
        let samples = Samples::default();
        Reign {
            held,
            tasks: JoinSet::new(),
            followed: BTreeMap::new(),
            arrays: BTreeMap::new(),
            switches: BTreeMap::new(),
            samples,
            wrote: Instant::now(),
            tended: None,
        }
    }

    async fn tend(&mut self, shared: &Arc<Shared>, scribe: &Scribe, measurements: &Measurements) {
        while self.tasks.try_join_next().is_some() {}
        self.follow_hosts(shared, scribe);
        self.follow_arrays(shared, scribe);
        self.follow_switches(shared, scribe);
        if self.wrote.elapsed() > Duration::from_secs(10) {
            self.wrote = Instant::now();
            let samples =
                std::mem::take(&mut *self.samples.lock().unwrap_or_else(PoisonError::into_inner));
            let samples: Vec<_> = samples.into_iter().collect();
            if let Err(error) = measurements.write(&samples).await {
                tracing::warn!(%error, "loads were not kept");
            }
        }
        if self
            .tended
            .is_none_or(|at| at.elapsed() > Duration::from_mins(5))
        {
            self.tended = Some(Instant::now());
            if let Err(error) = measurements.tend(OffsetDateTime::now_utc()).await {
                tracing::warn!(%error, "old samples were not removed");
            }
            if let Err(error) = tend_history(shared).await {
                tracing::warn!(%error, "old history was not removed");
            }
            let used: Vec<_> = shared
                .estate()
                .volumes
                .values()
                .filter(|v| v.ready)
                .map(|v| (v.id, v.used))
                .collect();
            let today = OffsetDateTime::now_utc().date();
            if let Err(error) = measurements.write_use(today, &used).await {
                tracing::warn!(%error, "how full volumes are was not noted");
            }
            purge_expired(shared, scribe).await;
        }
    }

    /// A task for each array and filer.
    fn follow_arrays(&mut self, shared: &Arc<Shared>, scribe: &Scribe) {
        let estate = shared.estate();
        self.arrays
            .retain(|id, task| estate.arrays.contains_key(id) && !task.is_finished());
        for id in estate.arrays.keys() {
            if !self.arrays.contains_key(id) {
                let eye = array::ArrayEye {
                    shared: shared.clone(),
                    scribe: scribe.clone(),
                    held: self.held,
                    array: *id,
                };
                self.arrays.insert(*id, self.tasks.spawn(eye.follow()));
            }
        }
    }

    /// A task for each switch.
    fn follow_switches(&mut self, shared: &Arc<Shared>, scribe: &Scribe) {
        let estate = shared.estate();
        self.switches
            .retain(|id, task| estate.switches.contains_key(id) && !task.is_finished());
        for id in estate.switches.keys() {
            if !self.switches.contains_key(id) {
                let eye = switch::SwitchEye {
                    shared: shared.clone(),
                    scribe: scribe.clone(),
                    held: self.held,
                    switch: *id,
                };
                self.switches.insert(*id, self.tasks.spawn(eye.follow()));
            }
        }
    }

    /// A task for each claimed host, by the certificate and key that it was claimed with.
    fn follow_hosts(&mut self, shared: &Arc<Shared>, scribe: &Scribe) {
        let estate = shared.estate();
        let by_access = |h: &zastrugi_core::estate::Host| format!("{:?}", h.access);
        self.followed.retain(|id, (access, task)| {
            let same = estate
                .hosts
                .get(id)
                .is_some_and(|h| by_access(h) == *access);
            if !same {
                task.abort();
            }
            same && !task.is_finished()
        });
        for host in estate.hosts.values().filter(|h| h.access.key.is_some()) {
            if !self.followed.contains_key(&host.id) {
                let eye = host::Eye {
                    shared: shared.clone(),
                    scribe: scribe.clone(),
                    held: self.held,
                    samples: self.samples.clone(),
                    host: host.id,
                };
                let task = self.tasks.spawn(eye.follow());
                self.followed.insert(host.id, (by_access(host), task));
            }
        }
    }
}

/// History is kept for 90 days and events for 400, unless the settings say otherwise.
async fn tend_history(shared: &Shared) -> Result<(), zastrugi_store::StoreError> {
    let settings = zastrugi_store::Settings::new(shared.pool.clone());
    let history = settings.get("history days").await?.unwrap_or(90);
    let events = settings.get("event days").await?.unwrap_or(400);
    zastrugi_store::Journal::new(shared.pool.clone())
        .tend(history, events)
        .await
}

/// Deleted machines whose time is over are removed for good, by a run like any other.
async fn purge_expired(shared: &Arc<Shared>, scribe: &Scribe) {
    let estate = shared.estate();
    let expired = estate
        .machines
        .values()
        .filter(|m| m.recoverable_until().is_some_and(|until| until <= now()));
    for machine in expired {
        let ask = Proposal::Purge {
            machines: vec![machine.id],
            typed: machine.name.clone(),
        };
        let started = start_as(
            scribe,
            Who::itself(),
            Permits::of(Role::Admin),
            ask,
            None,
            Uuid::new_v4(),
        )
        .await;
        if let Err(error) = started {
            tracing::warn!(machine = %machine.name, %error, "an expired machine was not removed");
        }
    }
}
