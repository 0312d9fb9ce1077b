//! Disks that are copies: of a machine, a snapshot or a frozen version; in full, or lying on a version.

pub(crate) mod calls;
pub(crate) mod copying;
pub(crate) mod seal;

use crate::{
    rooms::{
        snapshots::blocks::{self, GRAIN, Written},
        storage::volume::Disk,
    },
    world::World,
};
use serde::{Deserialize, Serialize};

/// A version: disks that nobody writes to any more.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Frozen {
    pub(crate) name: String,
    pub(crate) disks: Vec<Disk>,
    pub(crate) content: Vec<Written>,
    /// Its guest has an agent that can seal.
    pub(crate) agent: bool,
    /// What its making came to.
    pub(crate) made: serde_json::Value,
}

impl Frozen {
    pub(crate) fn takes(&self) -> u64 {
        let disks = self.disks.iter().zip(&self.content);
        disks.map(|(disk, content)| takes(disk, content)).sum()
    }
}

/// Disks with what is on them at a moment, and whether their guest has an agent that can seal.
pub(crate) type Held = (Vec<Disk>, Vec<Written>, bool);

/// What a disk with this on it takes.
pub(crate) fn takes(disk: &Disk, content: &Written) -> u64 {
    match disk.thick {
        true => disk.size,
        false => content.len() * GRAIN,
    }
}

impl World {
    /// What a version holds, by its name: equal words, equal bytes.
    pub fn version(&self, name: &str) -> Option<String> {
        let state = self.lock();
        let mut all = state.volumes.values().flat_map(|v| v.templates.values());
        let found = all.find(|t| t.name == name)?;
        let words: Vec<String> = found.content.iter().map(blocks::words).collect();
        Some(words.join("|"))
    }

    /// Bytes that a machine's own disks take, without what they lie on.
    pub fn takes(&self, machine: &str) -> u64 {
        let state = self.lock();
        let mut records = state.volumes.values().flat_map(|v| v.records.values());
        let found = records.find(|r| r.name == machine);
        found.map_or(0, crate::rooms::moving::copying::takes)
    }
}
