//! The engine: all waiting is here. [`Desk`] is the one facade of pages and API; `scribe` owns the current estate and
//! is the only one that appends; `runs` carries orders to devices; `watch` observes devices while this process leads.
//!
//! Start at [`Engine::start`].

mod album;
mod consoles;
mod desk;
mod evidence;
mod guard;
mod passwords;
mod pulse;
mod runs;
mod scribe;
mod secrets;
mod settings;
mod shared;
mod watch;

pub use consoles::{Look, Told};
pub use desk::{
    AnswerError, Asking, ConsoleError, ConsoleWay, Desk, FeedError, Found, Headroom, Headrooms,
    Health, HistoryError, InsideError, KEYBOARDS, PasswordProblem, ProbeError, Resolve, ScanState,
    SignIn, SignInError, StartError, Taken, Ticket, Viewer,
};
pub use runs::{Boundary, Ends};
pub use secrets::read_key;
pub use settings::EngineSettings;
pub use zastrugi_drivers::{Announcement, Exports, Media, Networks, Part, Screen, Served, check};
pub use zastrugi_store::{EventFilter, EventRow, Person, Picture, RunFilter, StoreError};

use shared::Shared;
use std::sync::Arc;
use tokio::task::JoinSet;
use uuid::Uuid;
use watch::Renewal;
use zastrugi_drivers::{Announcements, Drivers};
use zastrugi_store::{Carriers, Journal, Orders, Pictures, Vault};

/// A running process: its tasks end when this is dropped.
pub struct Engine {
    desk: Desk,
    tasks: JoinSet<()>,
    renewal: Option<Renewal>,
    /// By what it is known as one that carries.
    carrier: Option<(Carriers, Uuid)>,
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
        let (head, world) = journal.load().await?;
        let vault = Vault::new(pool.clone(), &settings.key);
        let (installation, networks, macs) = settings::first(&pool, &settings).await?;
        let secrets = Arc::new(secrets::Sealed::new(vault.clone()));
        let album = Arc::new(album::Kept(Pictures::new(pool.clone())));
        let drivers = Drivers::new(networks, secrets, installation)
            .with_media(settings.media.clone())
            .with_exports(settings.exports.clone())
            .with_album(album);
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
            head,
            world,
            drivers,
            vault,
            announcements,
            macs,
        ));
        let mut renewal = None;
        let mut tasks = JoinSet::new();
        let scribe = scribe::spawn(&mut tasks, shared.clone(), journal);
        let way = runs::Way {
            lease: settings.order_lease,
            ends: settings.ends.clone(),
        };
        let mut carrier = None;
        if let Some(sites) = settings.carries.clone() {
            let (scribe, orders) = (scribe.clone(), Orders::new(pool.clone()));
            carrier = Some((Carriers::new(pool.clone()), orders.process()));
            runs::carry(&mut tasks, shared.clone(), scribe, orders, (way, sites));
        } else if settings.works {
            runs::spawn(
                &mut tasks,
                shared.clone(),
                scribe.clone(),
                Orders::new(pool.clone()),
                way,
            );
            let begun = Renewal::begin(&settings.database)?;
            watch::spawn(
                &mut tasks,
                shared.clone(),
                scribe.clone(),
                &begun,
                watch::Duties {
                    guard: settings.guard,
                    own: settings.own,
                },
            );
            renewal = Some(begun);
        }
        tasks.spawn(pulse::beat(shared.clone()));
        tasks.spawn(settings::follow(shared.clone()));
        tasks.spawn(runs::follow_progress(shared.clone()));
        Ok(Engine {
            desk: Desk::new(shared, scribe, &settings.key),
            tasks,
            renewal,
            carrier,
        })
    }

    pub fn desk(&self) -> Desk {
        self.desk.clone()
    }

    /// Comes back when a part of the engine has ended, which it never does by itself. The process must end then: one that
    /// holds the lead and does nothing is worse than none.
    pub async fn ended(&mut self) -> String {
        let ended = self.tasks.join_next().await;
        self.desk.say_broken();
        match ended {
            Some(Err(error)) => format!("a part of the engine failed: {error}"),
            _ => "a part of the engine ended".into(),
        }
    }

    /// Ends all tasks and lets go of the lead; what a device was told stays in its order and is taken up by whoever comes
    /// next.
    pub async fn stop(mut self) {
        self.tasks.shutdown().await;
        if let Some((carriers, process)) = self.carrier
            && let Err(error) = carriers.leave(process).await
        {
            tracing::warn!(%error, "others hear that this process is gone a little later");
        }
        if let Some(renewal) = self.renewal {
            renewal.resign().await;
        }
    }
}
