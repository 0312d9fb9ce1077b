//! The processes: a host that has power and doesn't hang runs every keeper that it was given, and starts it again when it ended.
//! What a keeper is, is not the host's business: somebody who can run one says so beforehand.

use super::calls::Given;
use crate::world::{State, World};
use std::{
    collections::BTreeMap,
    sync::{Arc, Mutex, OnceLock, PoisonError},
};

/// Whoever can run a keeper.
pub trait Runner: Send + Sync {
    /// One of this cluster, on the host with this serial. It ends when it is dropped.
    fn begin(&self, host: &str, serial: &str, cluster: &str) -> Box<dyn Runs>;
}

/// A keeper that runs.
pub trait Runs: Send {
    /// Gives it what its host was given.
    fn hand(&mut self, given: &Given);
    /// Whether it says that it decides; none when it has ended.
    fn keeps(&self) -> Option<bool>;
}

struct Running {
    boot: u64,
    stamp: (u64, u64),
    keeper: Box<dyn Runs>,
}

#[derive(Default)]
pub(crate) struct Keepers {
    runner: OnceLock<Arc<dyn Runner>>,
    running: Mutex<BTreeMap<(String, String), Running>>,
}

impl World {
    /// Keepers are run by this from now on; before, none is.
    pub fn run_keepers_by(&self, runner: Arc<dyn Runner>) {
        drop(self.keepers.runner.set(runner));
    }

    /// Every keeper on a host ends, and may be started again.
    pub fn end_keepers(&self, host: &str) {
        let mut running = self
            .keepers
            .running
            .lock()
            .unwrap_or_else(PoisonError::into_inner);
        running.retain(|(name, _), _| name != host);
    }

    /// The host on which each machine runs, by its identifier.
    pub fn guests_by_uuid(&self) -> BTreeMap<String, String> {
        let state = self.lock();
        let all = state.hosts.values();
        all.flat_map(|h| h.guests.keys().map(|uuid| (uuid.clone(), h.name.clone())))
            .collect()
    }

    /// One look at which keepers run and which should.
    pub(crate) fn tend_keepers(&self) {
        let Some(runner) = self.keepers.runner.get() else {
            return;
        };
        let mut running = self
            .keepers
            .running
            .lock()
            .unwrap_or_else(PoisonError::into_inner);
        let wanted = wanted(&self.lock());
        running.retain(|key, one| {
            let same = wanted.get(key).is_some_and(|w| w.boot == one.boot);
            same && one.keeper.keeps().is_some()
        });
        for ((host, cluster), want) in wanted {
            let key = (host.clone(), cluster.clone());
            let one = running.entry(key).or_insert_with(|| Running {
                boot: want.boot,
                stamp: (0, 0),
                keeper: runner.begin(&host, &want.serial, &cluster),
            });
            if one.stamp != want.stamp {
                let given = self
                    .lock()
                    .hosts
                    .get(&host)
                    .and_then(|h| h.keepers.get(&cluster).cloned());
                if let Some(given) = given {
                    one.keeper.hand(&given);
                    one.stamp = want.stamp;
                }
            }
        }
        let mut state = self.lock();
        for host in state.hosts.values_mut() {
            let here = running.iter().filter(|((name, _), _)| *name == host.name);
            host.keepers_run = here
                .filter_map(|((_, cluster), one)| Some((cluster.clone(), one.keeper.keeps()?)))
                .collect();
        }
    }
}

struct Wanted {
    boot: u64,
    serial: String,
    stamp: (u64, u64),
}

fn wanted(state: &State) -> BTreeMap<(String, String), Wanted> {
    let up = state
        .hosts
        .values()
        .filter(|h| h.power && !h.stalled && h.owner.is_some());
    up.flat_map(|host| {
        host.keepers.iter().map(|(cluster, given)| {
            let want = Wanted {
                boot: host.boot,
                serial: host.serial.clone(),
                stamp: given.stamp,
            };
            ((host.name.clone(), cluster.clone()), want)
        })
    })
    .collect()
}
