//! Snapshots of a machine: states of its disks that it can go back to.

use crate::{layers::Chain, moment::Moment, units::Bytes};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;
use uuid::Uuid;

/// What can be relied on of a state.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Consistent {
    /// It was off.
    Off,
    /// Its file systems stood still.
    Quiet,
    /// As after a power cut.
    Crash,
    /// Memory was kept with it: it goes on where it was.
    Memory,
}

impl Consistent {
    pub fn word(self) -> &'static str {
        match self {
            Consistent::Off => "taken while it was off",
            Consistent::Quiet => "its file systems stood still",
            Consistent::Crash => "as after a power cut",
            Consistent::Memory => "with its memory",
        }
    }
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Snapshot {
    pub uuid: Uuid,
    pub name: String,
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub note: String,
    pub taken: Moment,
    /// The nearest one that it lies on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub parent: Option<Uuid>,
    pub consistent: Consistent,
    /// Room that its memory takes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub memory: Option<Bytes>,
    /// How many of the machine's disks it holds, the first ones; none: all.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub disks: Option<usize>,
    /// It is deleted by itself after this.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ends: Option<Moment>,
}

/// All snapshots of a machine.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Snapshots {
    /// Oldest first.
    pub all: Vec<Snapshot>,
    /// The one that what it writes now lies on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rests_on: Option<Uuid>,
}

impl Snapshots {
    pub fn get(&self, uuid: Uuid) -> Option<&Snapshot> {
        self.all.iter().find(|s| s.uuid == uuid)
    }
    pub fn is_empty(&self) -> bool {
        self.all.is_empty()
    }
    /// Whether layers are those of these snapshots: what was read before one was taken or deleted tells nothing of them.
    pub fn are_of(&self, chain: &Chain) -> bool {
        let named = chain.layers.values().filter_map(|l| l.snapshot);
        let named: BTreeSet<Uuid> = named.collect();
        let path = chain.path(chain.current);
        let mut below = path.iter().skip(1);
        let nearest = below.find_map(|n| chain.layers.get(n)?.snapshot);
        nearest == self.rests_on && named == self.all.iter().map(|s| s.uuid).collect()
    }
    /// Those that lie on a snapshot, at any height.
    pub fn above(&self, uuid: Uuid) -> Vec<Uuid> {
        let mut found = vec![uuid];
        let mut next = 0;
        while let Some(below) = found.get(next).copied() {
            let on = self.all.iter().filter(|s| s.parent == Some(below));
            let new: Vec<Uuid> = on.map(|s| s.uuid).filter(|u| !found.contains(u)).collect();
            found.extend(new);
            next += 1;
        }
        found.split_off(1)
    }
    /// From a snapshot down to the first, itself counted.
    pub fn below(&self, uuid: Uuid) -> Vec<Uuid> {
        let mut path = Vec::new();
        let mut at = Some(uuid);
        while let Some(here) = at.filter(|u| !path.contains(u)) {
            path.push(here);
            at = self.get(here).and_then(|s| s.parent);
        }
        path
    }
    /// How many lie on each other where it stands now.
    pub fn depth(&self) -> usize {
        self.rests_on.map_or(0, |at| self.below(at).len())
    }
    /// A snapshot of now, on which it stands from then on.
    pub fn take(&mut self, snapshot: Snapshot) {
        self.rests_on = Some(snapshot.uuid);
        self.all.retain(|s| s.uuid != snapshot.uuid);
        self.all.push(snapshot);
        self.all.sort_by_key(|s| s.taken);
    }
    pub fn go_back(&mut self, to: Uuid) {
        if self.get(to).is_some() {
            self.rests_on = Some(to);
        }
    }
    /// Those that are gone; what lay on them lies on what they lay on.
    pub fn forget(&mut self, gone: &[Uuid]) {
        let heir = |mut at: Option<Uuid>| {
            let path = at.map(|a| self.below(a)).unwrap_or_default();
            at = path.into_iter().find(|u| !gone.contains(u));
            at
        };
        let parents: Vec<Option<Uuid>> = self.all.iter().map(|s| heir(s.parent)).collect();
        let rests_on = heir(self.rests_on);
        for (snapshot, parent) in self.all.iter_mut().zip(parents) {
            snapshot.parent = parent;
        }
        self.rests_on = rests_on;
        self.all.retain(|s| !gone.contains(&s.uuid));
    }
}
