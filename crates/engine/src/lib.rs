//! The engine: all waiting is here. [`Desk`] is the one facade of pages and API; `scribe` owns the current estate and
//! is the only one that appends; `runs` carries orders to devices; `watch` observes devices while this process leads.
//!
//! Start at [`Engine::start`].

mod consoles;
mod desk;
mod evidence;
mod passwords;
mod runs;
mod scribe;
mod secrets;
mod settings;
mod shared;
mod watch;

pub use consoles::{Look, Told};
pub use desk::{
    Answer, AnswerError, ConsoleError, ConsoleWay, Desk, FeedError, Found, Headroom, Headrooms,
    Health, KEYBOARDS, PasswordProblem, ProbeError, ScanState, SignIn, SignInError, StartError,
    Ticket, Viewer,
};
pub use secrets::read_key;
pub use settings::{Boundary, EngineSettings};
pub use zastrugi_drivers::{Announcement, Networks, Screen, check};
pub use zastrugi_store::{EventFilter, EventRow, Person, Picture, StoreError};

use shared::Shared;
use std::sync::Arc;
use tokio::task::JoinSet;
use zastrugi_drivers::{Announcements, Drivers};
use zastrugi_store::{Journal, Orders, Vault};

/// A running process: its tasks end when this is dropped.
pub struct Engine {
    desk: Desk,
    tasks: JoinSet<()>,
}

impl Engine {
    /// Connects, brings the tables up to date, loads the estate and begins to work.
    ///
    /// # Errors
    /// [`StoreError`] when the database can't be reached or read.
    pub async fn start(settings: EngineSettings) -> Result<Engine, StoreError> {
        let pool = zastrugi_store::connect(&settings.database, settings.connections).await?;
        zastrugi_store::migrate(&pool).await?;
        let journal = Journal::new(pool.clone());
        let estate = journal.load().await?;
        let vault = Vault::new(pool.clone(), &settings.key);
        let (installation, networks) = settings::first(&pool, &settings).await?;
        let secrets = Arc::new(secrets::Sealed(vault.clone()));
        let drivers = Drivers::new(networks, secrets, installation);
        let announcements = match settings.announcements {
            Some(port) => Announcements::listen(port, settings.announcements_everywhere)
                .unwrap_or_else(|why| {
                    tracing::warn!(%why, "announcements of hosts are not heard");
                    Announcements::none()
                }),
            None => Announcements::none(),
        };
        let shared = Arc::new(Shared::new(
            pool.clone(),
            estate,
            drivers,
            vault,
            announcements,
        ));
        let mut tasks = JoinSet::new();
        let scribe = scribe::spawn(&mut tasks, shared.clone(), journal);
        if settings.works {
            let way = runs::Way {
                lease: settings.order_lease,
                die_at: settings.die_at,
            };
            runs::spawn(
                &mut tasks,
                shared.clone(),
                scribe.clone(),
                Orders::new(pool.clone()),
                way,
            );
            watch::spawn(&mut tasks, shared.clone(), scribe.clone());
        }
        Ok(Engine {
            desk: Desk::new(shared, scribe),
            tasks,
        })
    }

    pub fn desk(&self) -> Desk {
        self.desk.clone()
    }

    /// Ends all tasks; what a device was told stays in its order and is taken up by whoever comes next.
    pub async fn stop(mut self) {
        self.tasks.shutdown().await;
    }
}
