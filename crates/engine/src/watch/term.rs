//! The leader's lease: 10 s, renewed every 2 s by a thread of its own with a connection of its own, so that nothing else that
//! this process does can keep it from being renewed in time, or keep it up when it should lapse. Its holder stops at 7 s,
//! counted from sending the renewal.

use std::{
    thread::{self, JoinHandle},
    time::{Duration, Instant},
};
use tokio::{sync::watch, time::sleep};
use uuid::Uuid;
use zastrugi_core::moment::Span;
use zastrugi_store::{Held, Leases, StoreError};

const LEASE: Span = Span::secs(10);
const RENEW: Duration = Duration::from_secs(2);
const STOP: Duration = Duration::from_secs(7);

/// A lease that was had, and until when this process may act on it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Term {
    pub(crate) held: Held,
    pub(crate) until: Instant,
}

impl Term {
    pub(crate) fn holds(&self) -> bool {
        Instant::now() < self.until
    }
}

/// The thread that renews.
pub(crate) struct Renewal {
    pub(crate) terms: watch::Receiver<Option<Term>>,
    stop: watch::Sender<bool>,
    thread: JoinHandle<()>,
}

impl Renewal {
    /// # Errors
    /// [`StoreError`] when no thread can be had or the database's address can't be read.
    pub(crate) fn begin(database: &str) -> Result<Renewal, StoreError> {
        let pool = zastrugi_store::connect_lazily(database, 1)?;
        let (say, terms) = watch::channel(None);
        let (stop, stopped) = watch::channel(false);
        let runtime = tokio::runtime::Builder::new_current_thread()
            .enable_all()
            .build()
            .map_err(StoreError::of_io)?;
        let renew = renew(Leases::new(pool), say, stopped);
        let thread = thread::Builder::new()
            .name("lease".into())
            .spawn(move || runtime.block_on(renew))
            .map_err(StoreError::of_io)?;
        Ok(Renewal {
            terms,
            stop,
            thread,
        })
    }

    /// Lets go of the lease, so that the next needn't wait for its end.
    pub(crate) async fn resign(self) {
        self.stop.send_replace(true);
        let ended = tokio::task::spawn_blocking(move || self.thread.join());
        drop(tokio::time::timeout(Duration::from_secs(3), ended).await);
    }
}

async fn renew(
    leases: Leases,
    say: watch::Sender<Option<Term>>,
    mut stopped: watch::Receiver<bool>,
) {
    let holder = Uuid::new_v4();
    let mut term: Option<Term> = None;
    loop {
        let sent = Instant::now();
        match leases.lead(holder, LEASE).await {
            Ok(had) => {
                let until = sent + STOP;
                term = had.map(|held| Term { held, until });
            }
            Err(error) => tracing::debug!(%error, "the leader's lease was not renewed"),
        }
        say.send_replace(term.filter(Term::holds));
        tokio::select! {
            () = sleep(RENEW) => {}
            told = stopped.changed() => {
                // A process that was dropped, as in a crash, resigns nothing.
                if told.is_ok() && let Some(term) = term {
                    say.send_replace(None);
                    drop(leases.resign(term.held).await);
                }
                return;
            }
        }
    }
}
