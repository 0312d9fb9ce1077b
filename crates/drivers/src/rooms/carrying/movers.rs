//! Movers: tasks of this process that carry bytes between a host and a store, looked at by the step that wants them. One that is
//! lost with its process is begun again by whoever looks next, and goes on where it was.

use super::copying::Done;
use crate::backup::{Progress, Swept};
use std::{
    collections::BTreeMap,
    future::Future,
    sync::{
        Arc, Mutex, MutexGuard, PoisonError,
        atomic::{AtomicU64, Ordering},
    },
    time::{Duration, Instant},
};
use tokio::task::JoinHandle;
use zastrugi_core::{
    moment::Span,
    rooms::stores,
    runs::{Fault, FaultKind},
    units::{Bytes, Rate, round},
};

/// One that ended is remembered for so long, counted from its beginning.
const FORGOTTEN: Duration = Duration::from_secs(24 * 3600);

/// What came of one.
pub(crate) enum Carried {
    /// A point is in the store.
    There(Box<Done>),
    /// Disks of a point lie on a volume: so many bytes.
    Brought(Bytes),
    /// A store was swept.
    Swept(Swept),
    /// A store was looked through.
    Read(Box<stores::Read>),
    /// What changed lies at another site.
    Shipped(Shipped),
    /// Both sides hold the same of so many extents; those are all that there are.
    Equal(u64, bool),
}

/// What went over a pair.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Shipped {
    pub(crate) bytes: Bytes,
    /// As they went over the line.
    pub(crate) packed: Bytes,
    /// Nobody could say what had changed.
    pub(crate) compared: bool,
}

pub(crate) type Brought = Result<Carried, Fault>;

struct Mover {
    task: JoinHandle<Brought>,
    progress: Arc<Progress>,
    to: Whither,
    began: Instant,
}

/// Which way bytes go.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Whither {
    IntoStore,
    OutOfStore,
    OverPair,
}

/// Those of this process, by the keys of their steps.
#[derive(Clone, Default)]
pub(crate) struct Movers(Arc<Mutex<BTreeMap<String, Mover>>>);

/// How one stands.
pub(crate) enum Look {
    None,
    Goes(String),
    Over(JoinHandle<Brought>),
}

/// What it came to.
pub(crate) async fn over(task: JoinHandle<Brought>) -> Brought {
    let ended = |_| Fault::new(FaultKind::Ours, "The mover ended.", "It is begun again.");
    task.await.map_err(ended)?
}

impl Movers {
    fn all(&self) -> MutexGuard<'_, BTreeMap<String, Mover>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(crate) fn look(&self, key: &str) -> Look {
        let mut all = self.all();
        match all.get(key) {
            None => Look::None,
            Some(mover) if !mover.task.is_finished() => Look::Goes(mover.said()),
            Some(_) => match all.remove(key) {
                Some(mover) => Look::Over(mover.task),
                None => Look::None,
            },
        }
    }

    /// Into a store, or out of one.
    pub(crate) fn begin<F>(&self, key: &str, to: Whither, carry: impl FnOnce(Arc<Progress>) -> F)
    where
        F: Future<Output = Brought> + Send + 'static,
    {
        let progress = Arc::new(Progress::default());
        let mover = Mover {
            task: tokio::spawn(carry(progress.clone())),
            progress,
            to,
            began: Instant::now(),
        };
        let mut all = self.all();
        // One whose step another process looked at last is asked for by nobody.
        all.retain(|_, m| !m.task.is_finished() || m.began.elapsed() < FORGOTTEN);
        all.insert(key.to_owned(), mover);
    }

    /// Ends it; whatever it was at is over then.
    pub(crate) async fn end(&self, key: &str) {
        let mover = self.all().remove(key);
        if let Some(mover) = mover {
            mover.task.abort();
            drop(mover.task.await);
        }
    }
}

impl Mover {
    fn said(&self) -> String {
        let figure = |n: &AtomicU64| Bytes(n.load(Ordering::Relaxed));
        let (done, of) = (figure(&self.progress.done), figure(&self.progress.of));
        let secs = self.began.elapsed().as_secs_f64().max(0.001);
        let rate = Rate(round(done.as_f64() / secs));
        let left = of.less(done);
        let time = match rate.0 {
            0 => String::new(),
            n => format!(
                ", about {} left",
                Span::millis(round(left.as_f64() / (n as f64) * 1000.0))
            ),
        };
        let stored = figure(&self.progress.stored);
        match self.to {
            Whither::OutOfStore => format!("{done} of {of} brought at {rate}{time}"),
            Whither::IntoStore => {
                format!("{done} of {of} read at {rate}, {stored} new in the store{time}")
            }
            Whither::OverPair => {
                format!("{done} of {of} there at {rate}, {stored} on the line{time}")
            }
        }
    }
}
