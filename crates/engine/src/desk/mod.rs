//! The desk: all that pages and API may do. One file for each place.

mod bare;
mod carriers;
mod consoles;
mod crossings;
mod door;
mod headroom;
mod history;
mod hosts;
mod images;
mod inside;
mod logbook;
mod networks;
mod people;
mod promises;
mod runs;
mod seats;
mod snapshots;
mod standing;
mod storage;
mod stores;

pub(crate) use crate::scribe::By;
pub use consoles::{ConsoleError, KEYBOARDS, Ticket, Way as ConsoleWay};
pub use door::{Asking, SignIn, SignInError};
pub use headroom::{Headroom, Headrooms};
pub use history::HistoryError;
pub use hosts::{Found, ProbeError, ScanState};
pub use images::FeedError;
pub use inside::{InsideError, Taken};
pub use people::PasswordProblem;
pub use runs::{AnswerError, Resolve, StartError};
pub(crate) use runs::{Wish, start_as};
pub use standing::{Begun, TakeOverError};

use crate::{
    guard::{Browsers, Guard},
    scribe::Scribe,
    shared::{Shared, now},
};
use std::sync::{Arc, atomic::Ordering};
use tokio::sync::watch;
use zastrugi_core::{
    ids::{PersonId, Revision},
    moment::Moment,
    permits::{Permits, Role, Who},
    rooms::{Assessment, Proposal, assess},
    runs::Progress,
    view::View,
};
use zastrugi_store::{People, Reads, Settings};

/// Who looks, and what they may do.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Viewer {
    pub id: PersonId,
    pub name: String,
    pub role: Role,
}

impl Viewer {
    pub fn permits(&self) -> Permits {
        Permits::of(self.role)
    }
    pub fn who(&self) -> Who {
        Who {
            person: Some(self.id),
            name: self.name.clone(),
        }
    }
}

/// How this process does.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Health {
    pub database: bool,
    /// The database takes writes, also if nobody changes anything just now.
    pub writes: bool,
    pub revision: Revision,
    pub leads: bool,
    /// A part of this process ended; it is about to end too.
    pub broken: bool,
    /// Why orders are held, if they are.
    pub held: Option<String>,
}

#[derive(Clone)]
pub struct Desk {
    shared: Arc<Shared>,
    scribe: Scribe,
    people: People,
    reads: Reads,
    settings: Settings,
    guard: Arc<Guard>,
    remembered: Arc<door::Remembered>,
    seats: Arc<seats::Seats>,
    browsers: Browsers,
    headrooms: Arc<std::sync::Mutex<Option<headroom::Cached>>>,
    promises: Arc<std::sync::Mutex<Arc<zastrugi_core::pledges::Promises>>>,
    crossings: Arc<std::sync::Mutex<crossings::Crossings>>,
    tickets: Arc<consoles::Tickets>,
    lent: Arc<bare::Lent>,
}

impl Desk {
    pub(crate) fn new(shared: Arc<Shared>, scribe: Scribe, key: &[u8; 32]) -> Self {
        let pool = shared.pool.clone();
        Desk {
            shared,
            scribe,
            people: People::new(pool.clone()),
            reads: Reads::new(pool.clone()),
            settings: Settings::new(pool),
            guard: Arc::default(),
            remembered: Arc::default(),
            seats: Arc::default(),
            browsers: Browsers::new(key),
            headrooms: Arc::default(),
            promises: Arc::default(),
            crossings: Arc::default(),
            tickets: Arc::default(),
            lent: Arc::default(),
        }
    }

    /// Snapshots in memory; no query.
    pub fn look(&self) -> View {
        self.shared.view()
    }
    pub fn now(&self) -> Moment {
        now()
    }
    /// The consequences of `ask` for this viewer, from what is known now.
    pub fn assess(&self, viewer: &Viewer, ask: &Proposal) -> Assessment {
        assess(&self.look(), &viewer.permits(), ask, now())
    }
    pub fn health(&self) -> Health {
        Health {
            database: self.shared.database_answers.load(Ordering::Relaxed),
            writes: self.shared.database_writes.load(Ordering::Relaxed),
            revision: self.shared.estate().revision,
            leads: self.shared.leads.load(Ordering::Relaxed),
            broken: self.shared.broken.load(Ordering::Relaxed),
            held: self.shared.snapshot().head.held.clone(),
        }
    }
    #[cfg(test)]
    pub(crate) fn scribe(&self) -> &Scribe {
        &self.scribe
    }
    pub(crate) fn say_broken(&self) {
        self.shared.broken.store(true, Ordering::Relaxed);
    }
    /// Rings at every new revision.
    pub fn revisions(&self) -> watch::Receiver<Revision> {
        self.shared.revisions()
    }
    /// Rings when steps under way say something else of how far they are.
    pub fn progresses(&self) -> watch::Receiver<Arc<Progress>> {
        self.shared.progresses()
    }
    /// When loads were last taken in.
    pub fn loads_at(&self) -> Moment {
        self.shared.loads_at()
    }
}
