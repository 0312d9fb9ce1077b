//! Replicas: machines that stay off at another site and hold what their originals held, point by point. A point of a replica is a
//! snapshot of it; where that is gone, so is the point.

use super::{Estate, Machine, Pair, Series, Store, StoredPoint};
use crate::ids::{MachineId, PairId, SiteId, StoreId};
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use uuid::Uuid;

/// What makes a machine one.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Replica {
    /// The identity of the original.
    pub of: Uuid,
    /// What the original was called last.
    pub name: String,
    pub pair: PairId,
    /// Its disks, beside those of the original.
    pub disks: Vec<Twin>,
    /// It was superseded while it may have run: what it holds is none of its points.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub astray: bool,
    /// Oldest first.
    #[serde(default)]
    pub points: Vec<StoredPoint>,
}

/// A disk and its original, by their keys.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Twin {
    pub original: Uuid,
    pub own: Uuid,
}

/// Where copies of a machine are, beside itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum CopyPlace {
    Store(StoreId),
    Replica(MachineId, PairId),
}

/// What one place has of a machine.
#[derive(Debug, Clone)]
pub struct Elsewhere<'a> {
    pub at: CopyPlace,
    /// `breakwater`, `Hilltop`
    pub name: &'a str,
    pub site: Option<SiteId>,
    /// Oldest first.
    pub points: Vec<&'a StoredPoint>,
}

impl Elsewhere<'_> {
    /// `in breakwater`, `at Hilltop`
    pub fn placed(&self) -> String {
        match self.at {
            CopyPlace::Store(_) => format!("in {}", self.name),
            CopyPlace::Replica(..) => format!("at {}", self.name),
        }
    }
}

impl Replica {
    /// Keeps a point, in its place.
    pub fn add(&mut self, point: StoredPoint) {
        self.points.retain(|p| p.session != point.session);
        self.points.push(point);
        self.points.sort_by_key(|p| p.taken);
    }
    /// The disk that holds what this one of the original holds.
    pub fn twin(&self, original: Uuid) -> Option<Uuid> {
        let twin = self.disks.iter().find(|t| t.original == original);
        twin.map(|t| t.own)
    }
}

impl Machine {
    /// What it has of its original: those of its points whose snapshots are there, oldest first.
    pub fn replicated(&self) -> impl DoubleEndedIterator<Item = &StoredPoint> + Clone {
        let all = self.replica.iter().flat_map(|r| &r.points);
        all.filter(|p| self.snapshots.get(p.session).is_some())
    }
    /// The newest state that it holds, if what it holds now is just that.
    pub fn follows(&self) -> Option<&StoredPoint> {
        self.replica.as_ref().filter(|r| !r.astray)?;
        let newest = self.replicated().next_back()?;
        (self.snapshots.rests_on == Some(newest.session)).then_some(newest)
    }
}

impl Estate {
    /// Those of a machine by its identity, by number.
    pub fn replicas_of(&self, original: Uuid) -> impl Iterator<Item = &Arc<Machine>> {
        let ids = self.index.replicas.all(&original);
        ids.filter_map(|id| self.machines.get(id))
            .filter(|m| m.deleted.is_none())
    }
    /// What a pair has of it.
    pub fn replica_over(&self, pair: PairId, original: Uuid) -> Option<&Arc<Machine>> {
        let over = |m: &&Arc<Machine>| m.replica.as_ref().is_some_and(|r| r.pair == pair);
        self.replicas_of(original).find(over)
    }
    /// What it follows, if that is there.
    pub fn original_of(&self, replica: &Replica) -> Option<&Arc<Machine>> {
        let original = self.machine_with_uuid(&replica.of)?;
        original.deleted.is_none().then_some(original)
    }
    /// Those that came over a pair.
    pub fn replicas_over(&self, pair: PairId) -> impl Iterator<Item = &Arc<Machine>> {
        let ids = self.index.over_pair.all(&pair);
        ids.filter_map(|id| self.machines.get(id))
            .filter(|m| m.deleted.is_none())
    }
    /// Everything that is elsewhere of a machine.
    pub fn elsewhere<'a>(&'a self, machine: &'a Machine) -> impl Iterator<Item = Elsewhere<'a>> {
        let stored = self.backups_of(machine).filter_map(|s: &Arc<Series>| {
            let store: &Arc<Store> = self.stores.get(&s.store)?;
            Some(Elsewhere {
                at: CopyPlace::Store(store.id),
                name: &store.name,
                site: Some(store.site),
                points: s.points.iter().collect(),
            })
        });
        let replicas = self.replicas_of(machine.uuid).filter_map(|m| {
            let pair: &Arc<Pair> = self.pairs.get(&m.replica.as_ref()?.pair)?;
            let site = self.site_of(m);
            let name = site
                .and_then(|s| self.sites.get(&s))
                .map(|s| s.name.as_str());
            Some(Elsewhere {
                at: CopyPlace::Replica(m.id, pair.id),
                name: name.unwrap_or(&m.name),
                site,
                points: m.replicated().collect(),
            })
        });
        stored.chain(replicas)
    }
    /// The mark before the one that the next copy to a place rests on, unless the next to another place rests on it.
    pub fn idle_mark(&self, machine: &Machine, at: CopyPlace) -> Option<Uuid> {
        let mut needed = Vec::new();
        let mut before = None;
        for there in self.elsewhere(machine) {
            let mut newest = there.points.iter().rev();
            needed.extend(newest.next().map(|p| p.session));
            if there.at == at {
                before = newest.next().map(|p| p.session);
            }
        }
        before.filter(|session| !needed.contains(session))
    }
}
