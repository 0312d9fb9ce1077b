//! What is done to disks and cards: at the host that runs the machine, or at one that reaches its volume.

use super::Event;
use crate::{
    estate::{Disk, Estate},
    finding::{Finding, Rule},
    ids::{HostId, MachineId, NetworkId, VolumeId},
    moment::Span,
    road::{Left, Length, Premise, Urgency, Work},
    runs::{Lock, Object},
    view::View,
};
use serde::{Deserialize, Serialize};
use uuid::Uuid;

/// A card as it shall be.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Card {
    pub mac: String,
    pub network: Option<NetworkId>,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, strum::VariantNames)]
#[strum(serialize_all = "snake_case")]
#[serde(rename_all = "snake_case")]
pub enum Step {
    Add {
        machine: MachineId,
        via: HostId,
        disk: Disk,
    },
    Detach {
        machine: MachineId,
        via: HostId,
        volume: VolumeId,
        disk: Uuid,
        delete: bool,
    },
    Attach {
        machine: MachineId,
        via: HostId,
        volume: VolumeId,
        disk: Uuid,
    },
    /// All cards that it has afterwards.
    Cards {
        machine: MachineId,
        via: HostId,
        cards: Vec<Card>,
    },
    /// Of a disk that no machine has: deleted, or not.
    Mark {
        volume: VolumeId,
        via: HostId,
        disk: Uuid,
        deleted: bool,
    },
    Purge {
        volume: VolumeId,
        via: HostId,
        disk: Uuid,
    },
}

impl Work for Step {
    type Event = Event;

    fn group(&self) -> &'static str {
        match self {
            Step::Add { .. } => "add a disk",
            Step::Detach { .. } => "detach a disk",
            Step::Attach { .. } => "attach a disk",
            Step::Cards { .. } => "write the cards",
            Step::Mark { deleted: true, .. } => "delete, keep recoverable",
            Step::Mark { deleted: false, .. } => "bring back",
            Step::Purge { .. } => "remove for good",
        }
    }

    fn length(&self) -> Length {
        Length::Call(Span::secs(1))
    }

    fn pause(&self) -> Span {
        Span::millis(300)
    }

    fn goes_on(&self) -> bool {
        false
    }

    fn device(&self, _estate: &Estate) -> Option<Object> {
        Some(Object::Host(self.via()))
    }

    fn urgency(&self) -> Urgency {
        Urgency::Ordinary
    }

    fn about(&self) -> Vec<Object> {
        vec![self.of(), Object::Host(self.via())]
    }

    fn locks(&self) -> Vec<Lock> {
        let via = Lock::shared(Object::Host(self.via()));
        match self {
            // Disks of one volume are changed side by side; the volume itself judges each.
            Step::Mark { .. } | Step::Purge { .. } => vec![Lock::shared(self.of()), via],
            Step::Add { .. } | Step::Detach { .. } | Step::Attach { .. } | Step::Cards { .. } => {
                vec![Lock::exclusive(self.of()), via]
            }
        }
    }

    fn premise(&self, view: &View) -> Premise {
        let there = Premise::exist(view, &[self.of(), Object::Host(self.via())]);
        match self {
            Step::Add { machine, .. } | Step::Cards { machine, .. } => there.and(|| Premise::live(view, *machine)),
            Step::Detach { machine, disk, .. } => there.and(|| Premise::live(view, *machine)).and(|| has(view, *machine, *disk)),
            Step::Attach {
                machine,
                volume,
                disk,
                ..
            } => there.and(|| Premise::live(view, *machine)).and(|| spare(view, *volume, *disk)),
            Step::Mark { volume, disk, .. } | Step::Purge { volume, disk, .. } => there.and(|| spare(view, *volume, *disk)),
        }
    }

    fn record(&self) -> Option<Event> {
        None
    }

    fn undo(&self, _estate: &Estate, _left: Left) -> Option<Event> {
        None
    }
}

impl Step {
    /// The machine, or the volume.
    pub fn of(&self) -> Object {
        match self {
            Step::Add { machine, .. }
            | Step::Detach { machine, .. }
            | Step::Attach { machine, .. }
            | Step::Cards { machine, .. } => Object::Machine(*machine),
            Step::Mark { volume, .. } | Step::Purge { volume, .. } => Object::Volume(*volume),
        }
    }
    pub fn via(&self) -> HostId {
        match self {
            Step::Add { via, .. }
            | Step::Detach { via, .. }
            | Step::Attach { via, .. }
            | Step::Cards { via, .. }
            | Step::Mark { via, .. }
            | Step::Purge { via, .. } => *via,
        }
    }
}

fn has(view: &View, machine: MachineId, disk: Uuid) -> Premise {
    let machine = view.estate.machines.get(&machine);
    match machine.filter(|m| m.disk(disk).is_none()) {
        Some(m) => Finding::stop(Rule::Exists, &m.name, format!("{} has no such disk any more.", m.name)).into(),
        None => Premise::Holds,
    }
}

/// It is unattached; whoever got there first has it.
fn spare(view: &View, volume: VolumeId, disk: Uuid) -> Premise {
    let volume = view.estate.volumes.get(&volume);
    match volume.filter(|v| !v.unattached.disks.contains_key(&disk)) {
        Some(v) => Finding::stop(Rule::Exists, &v.name, "Somebody attached or removed the disk meanwhile.").into(),
        None => Premise::Holds,
    }
}
