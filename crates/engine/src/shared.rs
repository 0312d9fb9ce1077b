//! What the tasks of one process share: snapshots that are swapped whole, never locked while somebody waits.

use arc_swap::ArcSwap;
use std::{
    sync::{
        Arc, Mutex,
        atomic::{AtomicBool, AtomicI64, Ordering},
    },
    time::{SystemTime, UNIX_EPOCH},
};
use tokio::sync::{Notify, Semaphore, watch};
use zastrugi_core::{
    estate::Estate, evidence::EvidenceBook, ids::Revision, loads::Loads, moment::Moment, view::View,
};
use zastrugi_drivers::{Announcements, Drivers};
use zastrugi_store::{Pool, Vault};

use crate::{consoles::Consoles, desk::ScanState};

pub(crate) struct Shared {
    pub(crate) pool: Pool,
    pub(crate) drivers: Drivers,
    pub(crate) vault: Vault,
    pub(crate) announcements: Announcements,
    estate: ArcSwap<Estate>,
    pub(crate) loads: ArcSwap<Loads>,
    pub(crate) evidence: ArcSwap<EvidenceBook>,
    revision: watch::Sender<Revision>,
    /// Rung when an order may be due.
    pub(crate) orders: Notify,
    pub(crate) database_answers: AtomicBool,
    pub(crate) leads: AtomicBool,
    loads_at: AtomicI64,
    /// Pieces of files that may be on their way at once.
    pub(crate) arriving: Semaphore,
    pub(crate) consoles: Consoles,
    pub(crate) scan: Mutex<Option<ScanState>>,
}

impl Shared {
    pub(crate) fn new(
        pool: Pool,
        estate: Estate,
        drivers: Drivers,
        vault: Vault,
        announcements: Announcements,
    ) -> Self {
        let revision = watch::Sender::new(estate.revision);
        Shared {
            pool,
            drivers,
            vault,
            announcements,
            estate: ArcSwap::from_pointee(estate),
            loads: ArcSwap::default(),
            evidence: ArcSwap::default(),
            revision,
            orders: Notify::new(),
            database_answers: AtomicBool::new(true),
            leads: AtomicBool::new(false),
            loads_at: AtomicI64::new(0),
            arriving: Semaphore::new(4),
            consoles: Consoles::default(),
            scan: Mutex::new(None),
        }
    }
    pub(crate) fn view(&self) -> View {
        View {
            estate: self.estate.load_full(),
            loads: self.loads.load_full(),
            evidence: self.evidence.load_full(),
        }
    }
    pub(crate) fn estate(&self) -> Arc<Estate> {
        self.estate.load_full()
    }
    pub(crate) fn publish(&self, estate: Estate) {
        let revision = estate.revision;
        self.estate.store(Arc::new(estate));
        self.revision.send_replace(revision);
    }
    pub(crate) fn revisions(&self) -> watch::Receiver<Revision> {
        self.revision.subscribe()
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
