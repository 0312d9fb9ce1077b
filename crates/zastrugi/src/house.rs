//! The demo's manager as a process of its own, beside the devices: so that it can be killed, and the devices and keepers go on
//! without it. It is started again by itself.

use crate::{args::Serve, serve::Failed};
use rustix::process::{Pid, Signal, kill_process};
use std::{
    ffi::OsStr,
    net::SocketAddr,
    process::Stdio,
    sync::{Arc, Mutex, PoisonError},
    time::Duration,
};
use tokio::{
    process::{Child, ChildStdin, Command},
    sync::Notify,
    time::{Instant, sleep, sleep_until, timeout},
};
use zastrugi_standins::{Gust, House, Sky};

mod server;

use server::Server;

/// How long a manager that somebody broke stays so.
const BROKEN: Duration = Duration::from_mins(1);
/// What it may take to end.
const ENDS: Duration = Duration::from_secs(10);
/// Longer than any demo.
const FAR: Duration = Duration::from_hours(24 * 365);
/// What it may take until it answers.
const COMES_UP: Duration = Duration::from_mins(1);

const MANAGER: &str = "manager";
const DATABASE: &str = "database";
const KILLED: &str = "killed";
const STILL: &str = "stands still";
const CRASH: &str = "crash";
const STAND_BY: &str = "stand-by";
const GONE: &str = "gone with its database";

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Wish {
    Runs,
    /// Dead, or without a turn, until then.
    Killed(Instant),
    Still(Instant),
    /// Its site is gone, and its database with it, until somebody brings them back.
    Gone,
    /// The demo ends.
    Ends,
}

/// What is wished of the manager, and who carries it out.
pub(crate) struct Manager {
    serve: Serve,
    control: SocketAddr,
    token: String,
    wish: Mutex<Wish>,
    changed: Notify,
    /// How its database was started, while it is gone.
    server: Mutex<Option<Server>>,
}

impl Manager {
    pub(crate) fn new(serve: Serve, control: SocketAddr, token: String) -> Arc<Self> {
        Arc::new(Manager {
            serve,
            control,
            token,
            wish: Mutex::new(Wish::Runs),
            changed: Notify::new(),
            server: Mutex::default(),
        })
    }

    fn wish(&self) -> Wish {
        *self.wish.lock().unwrap_or_else(PoisonError::into_inner)
    }
    fn wishes(&self, wish: Wish) {
        *self.wish.lock().unwrap_or_else(PoisonError::into_inner) = wish;
        self.changed.notify_one();
    }

    /// Nothing of the database's address stands in a list of processes; its input ends when this process does.
    fn start(&self) -> Result<(Child, Option<ChildStdin>), Failed> {
        let serve = &self.serve;
        let mut child = Command::new(std::env::current_exe()?)
            .arg("serve")
            .args(["--address", &serve.address.to_string()])
            .args(["--port", &serve.port.to_string()])
            .args(["--name", &serve.name, "--networks", &serve.networks])
            .args(["--announcements", &serve.announcements.to_string()])
            .arg("--key-file")
            .arg(&serve.key_file)
            .args(serve.stand_by.then_some("--stand-by"))
            .args(["--weather", &self.control.to_string()])
            .args(
                serve
                    .media
                    .iter()
                    .flat_map(|dir| [OsStr::new("--media"), dir.as_os_str()]),
            )
            .args(
                serve
                    .exports
                    .iter()
                    .flat_map(|dir| [OsStr::new("--exports"), dir.as_os_str()]),
            )
            .env("DATABASE_URL", &serve.database.database)
            .env("ZASTRUGI_CONTROL_TOKEN", &self.token)
            .stdin(Stdio::piped())
            .kill_on_drop(true)
            .spawn()?;
        let input = child.stdin.take();
        Ok((child, input))
    }

    /// The demo ends: its manager is let end by itself.
    pub(crate) fn end(&self) {
        self.wishes(Wish::Ends);
    }

    /// Keeps it running as it is wished, until the demo ends or it stops by itself.
    pub(crate) async fn keep(&self) -> Result<(), Failed> {
        loop {
            let (mut child, mut input) = self.start()?;
            let pid = child.id().and_then(|id| Pid::from_raw(id.cast_signed()));
            loop {
                let (signal, until) = match self.wish() {
                    Wish::Runs => (Signal::CONT, None),
                    Wish::Killed(until) => (Signal::KILL, Some(until)),
                    Wish::Still(until) => (Signal::STOP, Some(until)),
                    Wish::Gone => (Signal::KILL, None),
                    Wish::Ends => (Signal::CONT, None),
                };
                // One that is gone already is what was wished, or is seen below.
                let _gone = pid.map(|pid| kill_process(pid, signal));
                if self.wish() == Wish::Ends {
                    drop(input.take());
                    drop(timeout(ENDS, child.wait()).await);
                    return Ok(());
                }
                let over = async {
                    match until {
                        Some(at) => sleep_until(at).await,
                        None => std::future::pending().await,
                    }
                };
                tokio::select! {
                    ended = child.wait() => {
                        let ended = ended?;
                        let back = match self.wish() {
                            Wish::Killed(until) => Some(until),
                            Wish::Gone => Some(Instant::now() + FAR),
                            Wish::Runs | Wish::Still(_) | Wish::Ends => None,
                        };
                        if let Some(until) = back {
                            self.is_dead_until(until).await;
                            if self.wish() == Wish::Ends {
                                return Ok(());
                            }
                            break;
                        }
                        return match ended.success() {
                            true => Ok(()),
                            false => Err(Failed::Other(format!("The manager ended: {ended}."))),
                        };
                    }
                    () = self.changed.notified() => {}
                    () = over => self.wishes(Wish::Runs),
                }
            }
        }
    }

    async fn is_dead_until(&self, until: Instant) {
        loop {
            tokio::select! {
                () = sleep_until(until) => return self.wishes(Wish::Runs),
                () = self.changed.notified() => match self.wish() {
                    Wish::Runs | Wish::Ends => return,
                    Wish::Killed(_) | Wish::Still(_) | Wish::Gone => {}
                },
            }
        }
    }

    /// Until its pages can be had.
    pub(crate) async fn answers(&self) -> Result<(), Failed> {
        let began = Instant::now();
        let at = (self.serve.address, self.serve.port);
        while tokio::net::TcpStream::connect(at).await.is_err() {
            if began.elapsed() > COMES_UP {
                let words = "the manager does not answer; its words stand above";
                return Err(Failed::Other(words.into()));
            }
            sleep(Duration::from_millis(100)).await;
        }
        Ok(())
    }

    /// Its site is gone: its database dies where it stands.
    fn loses_its_site(self: &Arc<Self>) {
        self.wishes(Wish::Gone);
        let manager = self.clone();
        tokio::spawn(async move {
            let address = manager.serve.database.database.clone();
            let found = zastrugi_store::with_process_behind(&address, Server::of).await;
            match found {
                Ok(Some(server)) => {
                    server.dies();
                    *manager
                        .server
                        .lock()
                        .unwrap_or_else(PoisonError::into_inner) = Some(server);
                }
                Ok(None) => tracing::warn!("the database does not die: how it runs was not found"),
                Err(error) => tracing::warn!(%error, "the database does not die"),
            }
        });
    }

    /// Its site is back: its database first, then it.
    fn has_its_site_back(self: &Arc<Self>) {
        let server = self.server.lock();
        let server = server.unwrap_or_else(PoisonError::into_inner).take();
        let manager = self.clone();
        tokio::spawn(async move {
            if let Some(server) = server
                && let Err(error) = server.starts()
            {
                tracing::warn!(%error, "the database does not start");
            }
            let began = Instant::now();
            let address = &manager.serve.database.database;
            while began.elapsed() < COMES_UP && zastrugi_store::connect(address, 1).await.is_err() {
                sleep(Duration::from_millis(200)).await;
            }
            manager.wishes(Wish::Runs);
        });
    }

    /// Kills one of the database's processes: it ends all others, recovers from its log and goes on, as after a crash.
    fn crash_database(&self) {
        let address = self.serve.database.database.clone();
        tokio::spawn(async move {
            let kill = |pid| Pid::from_raw(pid).map(|pid| kill_process(pid, Signal::KILL));
            match zastrugi_store::with_process_behind(&address, kill).await {
                Ok(killed) => tracing::info!(?killed, "the database crashes"),
                Err(error) => tracing::warn!(%error, "the database does not crash"),
            }
        });
    }
}

/// The managers of the demo: one, and one that stands by where there are two sites.
pub(crate) struct Houses {
    first: Arc<Manager>,
    other: Option<Arc<Manager>>,
}

impl Houses {
    pub(crate) fn new(first: Arc<Manager>, other: Option<Arc<Manager>>) -> Arc<Self> {
        Arc::new(Houses { first, other })
    }

    fn all(&self) -> impl Iterator<Item = &Arc<Manager>> {
        std::iter::once(&self.first).chain(&self.other)
    }

    /// Until the pages of all can be had.
    pub(crate) async fn answer(&self) -> Result<(), Failed> {
        for manager in self.all() {
            manager.answers().await?;
        }
        Ok(())
    }

    /// Keeps all running, until the demo ends or one stops by itself.
    pub(crate) async fn keep(&self) -> Result<(), Failed> {
        let all = self.all().map(|m| Box::pin(m.keep()));
        futures::future::try_join_all(all).await.map(drop)
    }

    pub(crate) fn end(&self) {
        self.all().for_each(|m| m.end());
    }
}

fn sky(kind: &str, name: &str, words: Vec<(String, bool)>) -> Sky {
    Sky {
        kind: kind.into(),
        name: name.into(),
        words,
    }
}

impl House for Houses {
    fn skies(&self) -> Vec<Sky> {
        let words = |m: &Manager| {
            let wish = m.wish();
            let mut words = vec![
                (KILLED.into(), matches!(wish, Wish::Killed(_))),
                (STILL.into(), matches!(wish, Wish::Still(_))),
            ];
            if self.other.is_some() {
                words.push((GONE.into(), wish == Wish::Gone));
            }
            words
        };
        let first = sky(MANAGER, MANAGER, words(&self.first));
        let other = self
            .other
            .as_ref()
            .map(|m| sky(MANAGER, STAND_BY, words(m)));
        let database = sky(DATABASE, DATABASE, vec![(CRASH.into(), false)]);
        [Some(first), other, Some(database)]
            .into_iter()
            .flatten()
            .collect()
    }

    fn blow(&self, gust: &Gust) -> bool {
        let until = Instant::now() + BROKEN;
        let manager = match &self.other {
            Some(other) if gust.name == STAND_BY => other,
            _ => &self.first,
        };
        // Guests crash too: that is not the database's.
        match (gust.kind.as_str(), gust.word.as_str(), gust.broken) {
            (MANAGER, KILLED, true) => manager.wishes(Wish::Killed(until)),
            (MANAGER, STILL, true) => manager.wishes(Wish::Still(until)),
            (MANAGER, KILLED | STILL, false) => manager.wishes(Wish::Runs),
            (MANAGER, GONE, true) => manager.loses_its_site(),
            (MANAGER, GONE, false) => manager.has_its_site_back(),
            (DATABASE, CRASH, true) => self.first.crash_database(),
            _ => return false,
        }
        true
    }
}
