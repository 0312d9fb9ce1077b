//! What a call changed is written before it is answered. Calls that end at the same time are written together, and nobody
//! else waits for the disk.

use crate::world::World;
use serde::Serialize;
use std::{
    collections::{BTreeMap, BTreeSet},
    fs, io,
    path::PathBuf,
    sync::{
        Arc, Mutex, MutexGuard, PoisonError,
        atomic::{AtomicU64, Ordering},
    },
    time::Duration,
};

/// How long a write waits for others.
const GATHER: Duration = Duration::from_millis(3);

/// A device whose state has a file.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
enum Changed {
    Host(String),
    Volume(String),
    Array(String),
}

/// What was changed and not written yet.
#[derive(Default)]
pub(crate) struct Unwritten {
    changed: Mutex<BTreeSet<Changed>>,
    /// Had by whoever writes.
    writing: tokio::sync::Mutex<()>,
    /// Counts what is read of the state, in its order.
    numbers: AtomicU64,
    /// The number of what each file holds.
    files: Mutex<BTreeMap<PathBuf, u64>>,
}

impl Unwritten {
    fn note(&self, what: Changed) {
        held(&self.changed).insert(what);
    }
    fn take(&self) -> BTreeSet<Changed> {
        std::mem::take(&mut *held(&self.changed))
    }
    /// To be asked for while the state is locked.
    fn number(&self) -> u64 {
        self.numbers.fetch_add(1, Ordering::SeqCst)
    }
}

impl World {
    pub(crate) fn host_changed(&self, name: &str) {
        self.unwritten.note(Changed::Host(name.to_owned()));
    }
    pub(crate) fn volume_changed(&self, uid: &str) {
        self.unwritten.note(Changed::Volume(uid.to_owned()));
    }
    pub(crate) fn array_changed(&self, name: &str) {
        self.unwritten.note(Changed::Array(name.to_owned()));
    }

    /// Until everything that was changed so far is in its file.
    pub(crate) async fn written(self: &Arc<Self>) {
        let _turn = self.unwritten.writing.lock().await;
        if held(&self.unwritten.changed).is_empty() {
            return;
        }
        // Whoever is about to change something too is written with it.
        tokio::time::sleep(GATHER).await;
        let changed = self.unwritten.take();
        let world = self.clone();
        let write = move || {
            for what in changed {
                world.write_down(&what);
            }
        };
        if let Err(error) = tokio::task::spawn_blocking(write).await {
            tracing::error!(%error, "a stand-in's state was not written");
        }
    }

    fn write_down(&self, what: &Changed) {
        let state = self.lock();
        let number = self.unwritten.number();
        let (folder, name, text) = match what {
            Changed::Host(name) => ("hosts", name, text(state.hosts.get(name))),
            Changed::Volume(uid) => ("volumes", uid, text(state.volumes.get(uid))),
            Changed::Array(name) => ("arrays", name, text(state.arrays.get(name))),
        };
        drop(state);
        self.replace(folder, name, number, text);
    }

    pub(crate) fn save<T: Serialize>(&self, folder: &str, name: &str, value: Option<&T>) {
        self.replace(folder, name, self.unwritten.number(), text(value));
    }

    /// Written beside and renamed, so that a killed process leaves the old or the new state, never half of one; and never
    /// over what was read later.
    fn replace(&self, folder: &str, name: &str, number: u64, text: io::Result<Vec<u8>>) {
        let path = self.dir.join(folder).join(format!("{name}.json"));
        let fresh = path.with_extension("new");
        let mut files = held(&self.unwritten.files);
        let last = files.entry(path.clone()).or_insert(0);
        if *last > number {
            return;
        }
        *last = number;
        let done = text
            .and_then(|bytes| fs::write(&fresh, bytes))
            .and_then(|()| fs::rename(&fresh, &path));
        if let Err(error) = done {
            tracing::error!(%error, path = %path.display(), "a stand-in's state can't be written");
        }
    }
}

fn text<T: Serialize>(value: Option<&T>) -> io::Result<Vec<u8>> {
    let value = value.ok_or_else(|| io::Error::other("it is gone"))?;
    serde_json::to_vec(value).map_err(io::Error::other)
}

fn held<T>(of: &Mutex<T>) -> MutexGuard<'_, T> {
    of.lock().unwrap_or_else(PoisonError::into_inner)
}
