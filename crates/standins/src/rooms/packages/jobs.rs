//! Work that takes a while and is asked for again and again: packing a file, reading one.

use std::{
    collections::BTreeMap,
    sync::{
        Arc, Mutex, MutexGuard, PoisonError,
        atomic::{AtomicBool, AtomicU64, Ordering},
    },
};

/// One, while it goes on and until its end was told.
pub(crate) struct Job<T> {
    done: AtomicU64,
    of: u64,
    ended: AtomicBool,
    outcome: Mutex<Option<Result<T, String>>>,
}

impl<T> Job<T> {
    /// So many bytes more; whether it shall go on.
    pub(crate) fn moved(&self, bytes: u64) -> bool {
        self.done.fetch_add(bytes, Ordering::Relaxed);
        !self.ended.load(Ordering::Relaxed)
    }
    fn outcome(&self) -> MutexGuard<'_, Option<Result<T, String>>> {
        self.outcome.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// What a look at one says.
pub(crate) enum Look<T> {
    None,
    Running { done: u64, of: u64 },
    Over(Result<T, String>),
}

pub(crate) struct Jobs<T>(Mutex<BTreeMap<String, Arc<Job<T>>>>);

impl<T> Default for Jobs<T> {
    fn default() -> Self {
        Jobs(Mutex::default())
    }
}

impl<T: Send + 'static> Jobs<T> {
    fn all(&self) -> MutexGuard<'_, BTreeMap<String, Arc<Job<T>>>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// One that is over is told once.
    pub(crate) fn look(&self, id: &str) -> Look<T> {
        let mut all = self.all();
        let Some(job) = all.get(id).cloned() else {
            return Look::None;
        };
        let over = job.outcome().take();
        match over {
            Some(outcome) => {
                all.remove(id);
                Look::Over(outcome)
            }
            None => Look::Running {
                done: job.done.load(Ordering::Relaxed),
                of: job.of,
            },
        }
    }

    /// `work` runs beside everything else, over so many bytes.
    pub(crate) fn begin(
        &self,
        id: &str,
        of: u64,
        work: impl FnOnce(&Job<T>) -> Result<T, String> + Send + 'static,
    ) {
        let job = Arc::new(Job {
            done: AtomicU64::new(0),
            of,
            ended: AtomicBool::new(false),
            outcome: Mutex::new(None),
        });
        self.all().insert(id.to_owned(), job.clone());
        tokio::task::spawn_blocking(move || {
            let outcome = work(&job);
            *job.outcome() = Some(outcome);
        });
    }

    /// It ends soon, and nobody is told what came of it.
    pub(crate) fn end(&self, id: &str) {
        if let Some(job) = self.all().remove(id) {
            job.ended.store(true, Ordering::Relaxed);
        }
    }
}
