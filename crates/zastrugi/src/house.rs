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

/// How long a manager that somebody broke stays so.
const BROKEN: Duration = Duration::from_mins(1);
/// What it may take to end.
const ENDS: Duration = Duration::from_secs(10);
/// What it may take until it answers.
const COMES_UP: Duration = Duration::from_mins(1);

const MANAGER: &str = "manager";
const DATABASE: &str = "database";
const KILLED: &str = "killed";
const STILL: &str = "stands still";
const CRASH: &str = "crash";

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Wish {
    Runs,
    /// Dead, or without a turn, until then.
    Killed(Instant),
    Still(Instant),
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
}

impl Manager {
    pub(crate) fn new(serve: Serve, control: SocketAddr, token: String) -> Arc<Self> {
        Arc::new(Manager {
            serve,
            control,
            token,
            wish: Mutex::new(Wish::Runs),
            changed: Notify::new(),
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
            .args(["--port", &serve.port.to_string()])
            .args(["--name", &serve.name, "--networks", &serve.networks])
            .args(["--announcements", &serve.announcements.to_string()])
            .arg("--key-file")
            .arg(&serve.key_file)
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
                        if let Wish::Killed(until) = self.wish() {
                            self.is_dead_until(until).await;
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
                    Wish::Killed(_) | Wish::Still(_) => {}
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

impl House for Manager {
    fn skies(&self) -> Vec<Sky> {
        let wish = self.wish();
        let sky = |kind: &str, words: Vec<(String, bool)>| Sky {
            kind: kind.into(),
            name: kind.into(),
            words,
        };
        let manager = vec![
            (KILLED.into(), matches!(wish, Wish::Killed(_))),
            (STILL.into(), matches!(wish, Wish::Still(_))),
        ];
        vec![
            sky(MANAGER, manager),
            sky(DATABASE, vec![(CRASH.into(), false)]),
        ]
    }

    fn blow(&self, gust: &Gust) -> bool {
        let until = Instant::now() + BROKEN;
        // Guests crash too: that is not the database's.
        match (gust.kind.as_str(), gust.word.as_str(), gust.broken) {
            (MANAGER, KILLED, true) => self.wishes(Wish::Killed(until)),
            (MANAGER, STILL, true) => self.wishes(Wish::Still(until)),
            (MANAGER, KILLED | STILL, false) => self.wishes(Wish::Runs),
            (DATABASE, CRASH, true) => self.crash_database(),
            _ => return false,
        }
        true
    }
}
