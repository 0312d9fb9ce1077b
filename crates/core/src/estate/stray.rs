//! Records on a volume that no machine is held for there: of one that nobody knows, or of one that has its disks elsewhere.

use super::{Disk, Estate, Machine, Volume};
use crate::{moment::Moment, units::Bytes};
use serde::{Deserialize, Serialize};
use std::{collections::BTreeMap, sync::Arc};
use uuid::Uuid;

/// What such a record says.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Stray {
    pub name: String,
    /// How often it was taken by a host that ran it: of two of one machine, the higher one ran last.
    pub generation: u64,
    pub created: Moment,
    /// Marked as deleted; its disks are still there.
    pub deleted: bool,
    /// The host that runs it, by its own name.
    pub runs_on: Option<String>,
    pub vcpus: u32,
    pub memory: Bytes,
    pub disks: Vec<Disk>,
    pub macs: Vec<String>,
    pub snapshots: usize,
    /// It keeps secrets of its guest in a security chip.
    pub chip: bool,
    /// When it was first seen.
    pub since: Moment,
}

/// Those of a volume, as it was last read.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Strays {
    pub all: BTreeMap<Uuid, Stray>,
    /// There are so many more.
    #[serde(default)]
    pub more: usize,
}

/// Why nobody is held for it there.
#[derive(Debug, Clone, PartialEq)]
pub enum Why {
    Unknown,
    /// The machine whose disks are on another volume.
    Twice(Arc<Machine>),
}

impl Strays {
    /// So many of one volume are kept; whoever settles them sees the next.
    pub const MOST: usize = 100;

    pub fn is_empty(&self) -> bool {
        self.all.is_empty()
    }
}

impl Stray {
    /// The record of a machine that we held until now.
    pub fn of(machine: &Machine, since: Moment) -> Stray {
        Stray {
            name: machine.name.clone(),
            generation: machine.generation,
            created: machine.created,
            deleted: machine.deleted.is_some(),
            runs_on: None,
            vcpus: machine.vcpus,
            memory: machine.memory.size,
            disks: machine.disks.clone(),
            macs: machine.nics.iter().map(|n| n.mac.clone()).collect(),
            snapshots: machine.snapshots.all.len(),
            chip: machine.firmware.as_ref().is_some_and(|f| f.chip.is_some()),
            since,
        }
    }
    pub fn size(&self) -> Bytes {
        self.disks.iter().map(|d| d.size).sum()
    }
}

impl Machine {
    /// Its disks are there.
    pub fn lies_on(&self, volume: &Volume) -> bool {
        self.disks.iter().any(|d| d.volume == volume.id)
    }
}

impl Volume {
    /// What is still so, each with why: what became known meanwhile is left out.
    pub fn strays<'a>(
        &'a self,
        estate: &'a Estate,
    ) -> impl Iterator<Item = (Uuid, &'a Stray, Why)> {
        self.strays.all.iter().filter_map(|(uuid, stray)| {
            let why = match estate.machine_with_uuid(uuid) {
                None => Why::Unknown,
                Some(known) if known.lies_on(self) => return None,
                Some(known) => Why::Twice(known.clone()),
            };
            Some((*uuid, stray, why))
        })
    }
    pub fn stray<'a>(&'a self, estate: &'a Estate, record: Uuid) -> Option<(&'a Stray, Why)> {
        let mut all = self.strays(estate);
        all.find(|(uuid, ..)| *uuid == record)
            .map(|(_, s, w)| (s, w))
    }
}

impl Estate {
    /// Another volume of its cluster on which a record of this machine lies as well; looks at each of them.
    pub fn lies_twice(&self, machine: &Machine) -> Option<&Arc<Volume>> {
        let mut all = self.volumes.values();
        all.find(|v| {
            v.cluster == machine.cluster
                && v.strays.all.contains_key(&machine.uuid)
                && !machine.lies_on(v)
        })
    }
}
