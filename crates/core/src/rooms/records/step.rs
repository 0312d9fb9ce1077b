//! What a host that mounts the volume does about a record.

use super::Event;
use crate::{
    estate::Estate,
    finding::{Finding, Rule},
    ids::{HostId, MachineId, VolumeId},
    moment::Span,
    road::{Left, Length, Premise, Urgency, Work},
    runs::{Lock, Object},
    view::View,
};
use serde::{Deserialize, Serialize};
use uuid::Uuid;

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, strum::VariantNames)]
#[strum(serialize_all = "snake_case")]
#[serde(rename_all = "snake_case")]
pub enum Step {
    Register {
        volume: VolumeId,
        via: HostId,
        record: Uuid,
        /// The one that is held already, with its disks elsewhere.
        machine: Option<MachineId>,
    },
    Forget {
        volume: VolumeId,
        via: HostId,
        record: Uuid,
    },
}

impl Step {
    pub fn via(&self) -> HostId {
        match self {
            Step::Register { via, .. } | Step::Forget { via, .. } => *via,
        }
    }
    fn of(&self) -> (VolumeId, Uuid) {
        match self {
            Step::Register { volume, record, .. } | Step::Forget { volume, record, .. } => (*volume, *record),
        }
    }
    fn machine(&self) -> Option<MachineId> {
        match self {
            Step::Register { machine, .. } => *machine,
            Step::Forget { .. } => None,
        }
    }
}

impl Work for Step {
    type Event = Event;

    fn group(&self) -> &'static str {
        match self {
            Step::Register { .. } => "register a record",
            Step::Forget { .. } => "forget a record",
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
        let (volume, _) = self.of();
        let all = [Object::Volume(volume), Object::Host(self.via())];
        all.into_iter().chain(self.machine().map(Object::Machine)).collect()
    }

    fn locks(&self) -> Vec<Lock> {
        let (volume, _) = self.of();
        let all = [Lock::shared(Object::Volume(volume)), Lock::shared(Object::Host(self.via()))];
        all.into_iter().chain(self.machine().map(|m| Lock::exclusive(Object::Machine(m)))).collect()
    }

    fn premise(&self, view: &View) -> Premise {
        let (volume, record) = self.of();
        let there = Premise::exist(view, &[Object::Volume(volume), Object::Host(self.via())]);
        there.and(|| match view.estate.volumes.get(&volume) {
            Some(v) if v.stray(&view.estate, record).is_none() => {
                Finding::stop(Rule::Exists, &v.name, "Somebody settled this record meanwhile.").into()
            }
            Some(_) | None => Premise::Holds,
        })
    }

    fn record(&self) -> Option<Event> {
        None
    }

    fn undo(&self, _estate: &Estate, _left: Left) -> Option<Event> {
        None
    }
}
