//! What the tasks of one process share: snapshots that are swapped whole, never locked while somebody waits.

use arc_swap::ArcSwap;
use std::{
    sync::{
        Arc, Mutex,
        atomic::{AtomicBool, AtomicI64, AtomicU64, Ordering},
    },
    time::{SystemTime, UNIX_EPOCH},
};
use tokio::sync::{Notify, Semaphore, watch};
use uuid::Uuid;
use zastrugi_core::{
    epoch::Epoch,
    estate::Estate,
    evidence::EvidenceBook,
    ids::Revision,
    loads::Loads,
    macs::MacRange,
    moment::Moment,
    rooms::{Plans, World},
    runs::{Pace, Progress, Runs},
    view::View,
};
use zastrugi_drivers::{Announcements, Drivers};
use zastrugi_store::{Head, Pool, Vault};

use crate::{consoles::Consoles, desk::ScanState, standing::Standing};

/// Everything that the journal held at one revision.
pub(crate) struct Snapshot {
    pub(crate) head: Head,
    pub(crate) estate: Arc<Estate>,
    pub(crate) runs: Arc<Runs>,
    pub(crate) plans: Arc<Plans>,
}

impl Snapshot {
    fn of(head: Head, world: World) -> Arc<Self> {
        Arc::new(Snapshot {
            head,
            estate: Arc::new(world.estate),
            runs: Arc::new(world.runs),
            plans: Arc::new(world.plans),
        })
    }
    /// A fork of it: microseconds.
    pub(crate) fn world(&self) -> World {
        World {
            estate: Estate::clone(&self.estate),
            runs: Runs::clone(&self.runs),
            plans: Plans::clone(&self.plans),
        }
    }
}

pub(crate) struct Shared {
    pub(crate) pool: Pool,
    pub(crate) drivers: Drivers,
    pub(crate) vault: Vault,
    pub(crate) announcements: Announcements,
    snapshot: ArcSwap<Snapshot>,
    pub(crate) loads: ArcSwap<Loads>,
    pub(crate) evidence: ArcSwap<EvidenceBook>,
    pub(crate) pace: ArcSwap<Pace>,
    pub(crate) macs: ArcSwap<MacRange>,
    revision: watch::Sender<Revision>,
    progress: watch::Sender<Arc<Progress>>,
    /// Rung when an order may be due.
    pub(crate) orders: Notify,
    /// Rung when another process changed a setting.
    pub(crate) settings: Notify,
    pub(crate) database_answers: AtomicBool,
    pub(crate) database_writes: AtomicBool,
    pub(crate) leads: AtomicBool,
    pub(crate) broken: AtomicBool,
    /// The highest history that a device was seen to obey.
    seen: AtomicU64,
    loads_at: AtomicI64,
    /// Searches for places that may be computed at once.
    pub(crate) searches: Arc<Semaphore>,
    /// Pieces of files that may be on their way at once.
    pub(crate) arriving: Semaphore,
    /// So many look into recovery points at the same time: each keeps some chunks in memory.
    pub(crate) looking: Arc<Semaphore>,
    pub(crate) consoles: Consoles,
    pub(crate) scan: Mutex<Option<ScanState>>,
    /// The database follows another: nothing is written and nothing ordered.
    pub(crate) stands_by: bool,
    /// Who this process was among those that were invited to stand by.
    pub(crate) me: Option<Uuid>,
    pub(crate) standing: ArcSwap<Standing>,
    /// The database no longer follows: the process is to begin anew.
    pub(crate) turned: watch::Sender<bool>,
    /// Held while somebody makes it take over; whether it has.
    pub(crate) taking_over: tokio::sync::Mutex<bool>,
}

impl Shared {
    pub(crate) fn new(
        pool: Pool,
        (head, world): (Head, World),
        drivers: Drivers,
        vault: Vault,
        announcements: Announcements,
        macs: MacRange,
        (stands_by, me): (bool, Option<Uuid>),
    ) -> Self {
        let revision = watch::Sender::new(head.revision);
        Shared {
            pool,
            drivers,
            vault,
            announcements,
            snapshot: ArcSwap::new(Snapshot::of(head, world)),
            loads: ArcSwap::default(),
            evidence: ArcSwap::default(),
            pace: ArcSwap::default(),
            macs: ArcSwap::from_pointee(macs),
            revision,
            progress: watch::Sender::new(Arc::default()),
            orders: Notify::new(),
            settings: Notify::new(),
            database_answers: AtomicBool::new(true),
            database_writes: AtomicBool::new(true),
            leads: AtomicBool::new(false),
            broken: AtomicBool::new(false),
            seen: AtomicU64::new(0),
            loads_at: AtomicI64::new(0),
            searches: Arc::new(Semaphore::new(2)),
            arriving: Semaphore::new(4),
            looking: Arc::new(Semaphore::new(6)),
            consoles: Consoles::default(),
            scan: Mutex::new(None),
            stands_by,
            me,
            standing: ArcSwap::default(),
            turned: watch::Sender::new(false),
            taking_over: tokio::sync::Mutex::new(false),
        }
    }
    pub(crate) fn view(&self) -> View {
        let now = self.snapshot();
        View {
            estate: now.estate.clone(),
            runs: now.runs.clone(),
            progress: self.progress(),
            loads: self.loads.load_full(),
            evidence: self.evidence.load_full(),
            pace: self.pace.load_full(),
            macs: **self.macs.load(),
        }
    }
    pub(crate) fn estate(&self) -> Arc<Estate> {
        self.snapshot().estate.clone()
    }
    pub(crate) fn snapshot(&self) -> Arc<Snapshot> {
        self.snapshot.load_full()
    }
    pub(crate) fn epoch(&self) -> Epoch {
        self.snapshot().head.epoch
    }
    /// Notes which history a device obeys.
    pub(crate) fn saw(&self, epoch: Epoch) {
        self.seen.fetch_max(epoch.number, Ordering::Relaxed);
    }
    pub(crate) fn highest_seen(&self) -> u64 {
        self.seen.load(Ordering::Relaxed)
    }
    pub(crate) fn publish(&self, head: Head, world: World) {
        let revision = head.revision;
        self.snapshot.store(Snapshot::of(head, world));
        self.revision.send_replace(revision);
    }
    pub(crate) fn revisions(&self) -> watch::Receiver<Revision> {
        self.revision.subscribe()
    }
    pub(crate) fn progress(&self) -> Arc<Progress> {
        self.progress.borrow().clone()
    }
    pub(crate) fn progresses(&self) -> watch::Receiver<Arc<Progress>> {
        self.progress.subscribe()
    }
    /// Rings only if something is different.
    pub(crate) fn progressed(&self, progress: Progress) {
        self.progress.send_if_modified(|held| {
            let differs = **held != progress;
            if differs {
                *held = Arc::new(progress);
            }
            differs
        });
    }
    pub(crate) fn answers(&self, yes: bool) {
        self.database_answers.store(yes, Ordering::Relaxed);
    }
    /// When loads were last taken in, for pages that show them.
    pub(crate) fn loads_taken(&self, at: Moment) {
        self.loads_at.store(at.0, Ordering::Relaxed);
    }
    pub(crate) fn loads_at(&self) -> Moment {
        Moment(self.loads_at.load(Ordering::Relaxed))
    }
}

/// The time by this process's clock.
pub(crate) fn now() -> Moment {
    let since = SystemTime::now()
        .duration_since(UNIX_EPOCH)
        .unwrap_or_default();
    Moment(i64::try_from(since.as_millis()).unwrap_or(i64::MAX))
}
