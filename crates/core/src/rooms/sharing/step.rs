//! What is done to a shared disk: on its volume, and at the host of each of its nodes.

use super::Event;
use crate::{
    estate::{Estate, Provisioning, Slot},
    finding::{Finding, Rule},
    ids::{HostId, MachineId, VolumeId},
    moment::Span,
    road::{Left, Length, Premise, Urgency, Work},
    runs::{Lock, Object},
    units::Bytes,
    view::View,
};
use serde::{Deserialize, Serialize};
use uuid::Uuid;

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, strum::VariantNames)]
#[strum(serialize_all = "snake_case")]
#[serde(rename_all = "snake_case")]
pub enum Step {
    /// Empty, or from the unattached disk of the same identity.
    Make {
        volume: VolumeId,
        via: HostId,
        disk: Uuid,
        name: String,
        size: Bytes,
        provisioning: Provisioning,
        slot: Slot,
        kept: bool,
    },
    /// With persistent reservations; what the machine had otherwise is so from now on.
    Give {
        machine: MachineId,
        via: HostId,
        volume: VolumeId,
        disk: Uuid,
        slot: Slot,
    },
    Take {
        machine: MachineId,
        via: HostId,
        volume: VolumeId,
        disk: Uuid,
    },
    /// No machine has it any more: it is an unattached one.
    End {
        volume: VolumeId,
        via: HostId,
        disk: Uuid,
    },
}

impl Work for Step {
    type Event = Event;

    fn group(&self) -> &'static str {
        match self {
            Step::Make { .. } => "make a shared disk",
            Step::Give { .. } => "give it to a node",
            Step::Take { .. } => "take it from a node",
            Step::End { .. } => "share it no more",
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
            Step::Make { .. } | Step::End { .. } => vec![Lock::shared(self.of()), via],
            Step::Give { .. } | Step::Take { .. } => vec![Lock::exclusive(self.of()), via],
        }
    }

    fn premise(&self, view: &View) -> Premise {
        let there = Premise::exist(view, &[self.of(), Object::Host(self.via())]);
        match self {
            Step::Make { .. } | Step::End { .. } => there,
            Step::Give { machine, disk, .. } | Step::Take { machine, disk, .. } => {
                there.and(|| Premise::live(view, *machine)).and(|| lets_go(view, *machine, *disk))
            }
        }
    }

    fn record(&self) -> Option<Event> {
        None
    }

    fn undo(&self, _estate: &Estate, _left: Left) -> Option<Event> {
        None
    }
}

/// Nobody takes a disk from under the guest that writes to it.
fn lets_go(view: &View, machine: MachineId, disk: Uuid) -> Premise {
    let Some((machine, (_, shared))) = view.estate.machines.get(&machine).zip(view.estate.shared_disk(disk)) else {
        return Premise::Holds;
    };
    if machine.shares(disk).is_none() || machine.is_off() || !shared.is_held_by(machine) {
        return Premise::Holds;
    }
    let text = format!("{} holds the reservation of {} by now.", machine.name, shared.name);
    Finding::stop(Rule::Guest, &machine.name, text).into()
}

impl Step {
    /// The machine, or the volume.
    pub fn of(&self) -> Object {
        match self {
            Step::Give { machine, .. } | Step::Take { machine, .. } => Object::Machine(*machine),
            Step::Make { volume, .. } | Step::End { volume, .. } => Object::Volume(*volume),
        }
    }
    pub fn via(&self) -> HostId {
        match self {
            Step::Make { via, .. } | Step::Give { via, .. } | Step::Take { via, .. } | Step::End { via, .. } => *via,
        }
    }
}
