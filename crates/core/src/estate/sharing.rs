//! Disks that several machines have at once: who has them and how, who may write, and who took over from whom.

use super::{Estate, Machine, Provisioning, Volume};
use crate::{
    ids::{MachineId, VolumeId},
    moment::{Moment, Span},
    units::Bytes,
};
use serde::{Deserialize, Serialize};
use std::{collections::BTreeMap, fmt, sync::Arc};
use uuid::Uuid;

/// Where a machine sees a disk: the same place on all of them, or their guests disagree on which disk it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Slot {
    pub controller: u8,
    pub unit: u8,
}

impl Slot {
    /// Controller 0 is that of a machine's own disks.
    pub const CONTROLLERS: std::ops::RangeInclusive<u8> = 1..=3;
    pub const UNITS: std::ops::RangeInclusive<u8> = 0..=14;

    /// All that a shared disk can have, in order.
    pub fn all() -> impl Iterator<Item = Slot> {
        Self::CONTROLLERS
            .flat_map(|controller| Self::UNITS.map(move |unit| Slot { controller, unit }))
    }
}

impl fmt::Display for Slot {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "controller {}, unit {}", self.controller, self.unit)
    }
}

/// Who of several machines may write.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Mode {
    /// SCSI-3 persistent reservations (SPC-4, 5.13): who holds the reservation.
    Reservations,
    /// Everybody at any time: the disk is worth nothing once two do.
    Unguarded,
}

impl Mode {
    pub fn word(self) -> &'static str {
        match self {
            Mode::Reservations => "persistent reservations",
            Mode::Unguarded => "no reservations",
        }
    }
}

/// How one machine has a shared disk.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct SharedAs {
    pub disk: Uuid,
    pub volume: VolumeId,
    pub slot: Slot,
    pub mode: Mode,
}

/// Who holds the reservation, by the machine's own identity.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Holder {
    pub machine: Uuid,
    pub since: Moment,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct TakeOver {
    pub from: Uuid,
    pub to: Uuid,
    /// When the one wrote last.
    pub last: Moment,
    /// When the other wrote first.
    pub first: Moment,
}

impl TakeOver {
    /// For how long nobody wrote.
    pub fn took(&self) -> Span {
        self.first.since(self.last)
    }
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SharedDisk {
    pub name: String,
    pub size: Bytes,
    pub provisioning: Provisioning,
    /// Room that it takes on its volume.
    pub takes: Bytes,
    /// Where every machine shall see it.
    pub slot: Slot,
    /// Machines that registered with it, and since when.
    pub registered: BTreeMap<Uuid, Moment>,
    pub holder: Option<Holder>,
    /// The newest last.
    pub takeovers: Vec<TakeOver>,
}

/// All of a volume, as hosts that mount it tell.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct SharedDisks {
    /// Grows with every change; what was said under a lower number was said before.
    pub seq: u64,
    pub disks: BTreeMap<Uuid, SharedDisk>,
}

impl SharedDisks {
    /// Nothing was ever said of any.
    pub fn is_unheard(&self) -> bool {
        self.seq == 0
    }
}

/// What one machine has otherwise than it shall.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Differs {
    Slot { has: Slot, shall: Slot },
    Mode { has: Mode },
}

impl Differs {
    pub fn words(self) -> String {
        match self {
            Differs::Slot { has, shall } => format!("it is at {has}, and shall be at {shall}"),
            Differs::Mode { has } => format!(
                "it is shared with {}, and shall be with {}",
                has.word(),
                Mode::Reservations.word()
            ),
        }
    }
}

impl SharedDisk {
    /// What is otherwise at a machine than the disk asks for.
    pub fn differs(&self, has: &SharedAs) -> Vec<Differs> {
        let slot = (has.slot != self.slot).then_some(Differs::Slot {
            has: has.slot,
            shall: self.slot,
        });
        let mode = (has.mode != Mode::Reservations).then_some(Differs::Mode { has: has.mode });
        slot.into_iter().chain(mode).collect()
    }
    pub fn is_held_by(&self, machine: &Machine) -> bool {
        self.holder.is_some_and(|h| h.machine == machine.uuid)
    }
}

impl Machine {
    pub fn shares(&self, disk: Uuid) -> Option<&SharedAs> {
        self.shares.iter().find(|s| s.disk == disk)
    }
    /// It is a node of a guest cluster.
    pub fn is_node(&self) -> bool {
        !self.shares.is_empty()
    }
}

impl Estate {
    pub fn shared_disk(&self, disk: Uuid) -> Option<(&Arc<Volume>, &SharedDisk)> {
        let mut all = self.volumes.values();
        all.find_map(|v| Some((v, v.shared.disks.get(&disk)?)))
    }
    /// The machines that have a shared disk.
    pub fn nodes(&self, disk: Uuid) -> impl Iterator<Item = &Arc<Machine>> {
        self.index
            .sharing
            .all(&disk)
            .filter_map(|id| self.machines.get(id))
    }
    /// The other machines of the guest clusters that it is a node of.
    pub fn fellows(&self, machine: &Machine) -> Vec<&Arc<Machine>> {
        let mut all: BTreeMap<MachineId, &Arc<Machine>> = BTreeMap::new();
        for share in &machine.shares {
            all.extend(self.nodes(share.disk).map(|m| (m.id, m)));
        }
        all.remove(&machine.id);
        all.into_values().collect()
    }
    /// The names of the guest clusters that it is a node of; machines of one are never on the same host.
    pub fn clustered(&self, machine: &Machine) -> Vec<String> {
        let name = |s: &SharedAs| match self.shared_disk(s.disk) {
            Some((_, disk)) => disk.name.clone(),
            None => s.disk.to_string(),
        };
        machine.shares.iter().map(name).collect()
    }
}
