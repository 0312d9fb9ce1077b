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
mod standing;
mod watch;

pub use consoles::{Look, Told};
pub use desk::{
    AnswerError, Asking, Begun, ConsoleError, ConsoleWay, Desk, FeedError, Found, Headroom,
    Headrooms, Health, HistoryError, InsideError, KEYBOARDS, PasswordProblem, ProbeError, Resolve,
    ScanState, SignIn, SignInError, StartError, TakeOverError, Taken, Ticket, Viewer,
};
pub use runs::{Boundary, Ends};
pub use secrets::read_key;
pub use settings::EngineSettings;
pub use standing::Standing;
pub use zastrugi_drivers::{Announcement, Exports, Media, Networks, Part, Screen, Served, check};
pub use zastrugi_store::{
    EventFilter, EventRow, Link, Person, Picture, Reception, RunFilter, StandBy, StandByKey,
    StandBys, StoreError, WrapError,
};

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
    /// Connects, brings the tables up to date, loads the estate and begins to work; on a database that follows another it
    /// stands by.
    ///
    /// # Errors
    /// [`StoreError`] when the database can't be reached or read.
    pub async fn start(settings: EngineSettings) -> Result<Engine, StoreError> {
        let pool = zastrugi_store::connect(&settings.database, settings.connections).await?;
        let stands_by = zastrugi_store::follows(&pool).await?;
        let journal = Journal::new(pool.clone());
        match stands_by {
            true => may_stand_by(&pool, &settings).await?,
            false => {
                zastrugi_store::migrate(&pool).await?;
                journal.check_timeline().await?;
            }
        }
        let shared = share(&pool, &journal, &settings, stands_by).await?;
        let mut tasks = JoinSet::new();
        let scribe = scribe::spawn(&mut tasks, shared.clone(), journal);
        let mut engine = Engine {
            desk: Desk::new(shared.clone(), scribe.clone(), &settings.key),
            tasks,
            renewal: None,
            carrier: None,
        };
        match stands_by {
            true => engine.stand_by(&shared),
            false => engine.work(&settings, &shared, scribe)?,
        }
        let tasks = &mut engine.tasks;
        tasks.spawn(settings::follow(shared.clone()));
        tasks.spawn(runs::follow_progress(shared.clone()));
        Ok(engine)
    }

    /// Shows what is received, and looks whether the database leads.
    fn stand_by(&mut self, shared: &Arc<Shared>) {
        self.tasks.spawn(standing::stand_by(shared.clone()));
        self.tasks.spawn(watch::read_loads(shared.clone()));
    }

    fn work(
        &mut self,
        settings: &EngineSettings,
        shared: &Arc<Shared>,
        scribe: scribe::Scribe,
    ) -> Result<(), StoreError> {
        let tasks = &mut self.tasks;
        let orders = Orders::new(shared.pool.clone());
        let way = runs::Way {
            lease: settings.order_lease,
            ends: settings.ends.clone(),
        };
        if let Some(sites) = settings.carries.clone() {
            self.carrier = Some((Carriers::new(shared.pool.clone()), orders.process()));
            runs::carry(tasks, shared.clone(), scribe, orders, (way, sites));
        } else if settings.works {
            runs::spawn(tasks, shared.clone(), scribe.clone(), orders, way);
            let begun = Renewal::begin(&settings.database)?;
            let duties = watch::Duties {
                guard: settings.guard,
                own: settings.own,
            };
            watch::spawn(tasks, shared.clone(), scribe, &begun, duties);
            self.renewal = Some(begun);
        }
        tasks.spawn(pulse::beat(shared.clone()));
        tasks.spawn(standing::look(shared.clone()));
        Ok(())
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

/// Whether a process may stand by on a database that follows another.
async fn may_stand_by(
    pool: &zastrugi_store::Pool,
    settings: &EngineSettings,
) -> Result<(), StoreError> {
    if settings.stand_by.is_none() {
        let words = "This database follows another and takes no writes: a process stands by on it with --stand-by.";
        return Err(StoreError::NotWritten(words.into()));
    }
    let (has, known) = zastrugi_store::schema(pool).await?;
    if has != known {
        let words = format!(
            "The manager's database has tables of version {has}, and this program knows version {known}: run the version \
             that the manager runs."
        );
        return Err(StoreError::NotWritten(words));
    }
    Ok(())
}

/// Everything that the tasks of this process share, as the database has it now.
async fn share(
    pool: &zastrugi_store::Pool,
    journal: &Journal,
    settings: &EngineSettings,
    stands_by: bool,
) -> Result<Arc<Shared>, StoreError> {
    let (head, world) = journal.load().await?;
    let vault = Vault::new(pool.clone(), &settings.key);
    let (installation, networks, macs) = match stands_by {
        true => settings::read(pool).await?,
        false => settings::first(pool, settings).await?,
    };
    let secrets = Arc::new(secrets::Sealed::new(vault.clone()));
    let album = Arc::new(album::Kept(Pictures::new(pool.clone())));
    let drivers = Drivers::new(networks, secrets, installation)
        .with_media(settings.media.clone())
        .with_exports(settings.exports.clone())
        .with_album(album);
    let announcements = match settings.announcements {
        Some(port) if !stands_by => Announcements::listen(port, settings.announcements_everywhere)
            .unwrap_or_else(|why| {
                tracing::warn!(%why, "announcements of hosts are not heard");
                Announcements::none()
            }),
        Some(_) | None => Announcements::none(),
    };
    Ok(Arc::new(Shared::new(
        pool.clone(),
        (head, world),
        drivers,
        vault,
        announcements,
        macs,
        (stands_by, settings.stand_by),
    )))
}
