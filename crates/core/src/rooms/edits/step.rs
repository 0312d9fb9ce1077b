//! What an edit writes at a device.

use super::{Event, Set};
use crate::{
    estate::Estate,
    finding::{Finding, Rule},
    moment::Span,
    road::{Left, Length, Premise, Urgency, Work},
    runs::{Lock, Object},
    view::View,
    ids::{HostId, MachineId},
    units::Bytes,
};
use serde::{Deserialize, Serialize};

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, strum::VariantNames)]
#[strum(serialize_all = "snake_case")]
#[serde(rename_all = "snake_case")]
pub enum Step {
    Rewrite {
        machine: MachineId,
        via: HostId,
        sets: Vec<super::Set>,
    },
    /// To a machine that runs, at its own host.
    Grow {
        machine: MachineId,
        via: HostId,
        vcpus: Option<u32>,
        memory: Option<Bytes>,
    },
}

impl Work for Step {
    type Event = Event;

    fn group(&self) -> &'static str {
        match self {
            Step::Rewrite { .. } => "write the record",
            Step::Grow { .. } => "give it while it runs",
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
        let (_, via) = self.ends();
        Some(Object::Host(via))
    }

    fn urgency(&self) -> Urgency {
        Urgency::Ordinary
    }

    fn about(&self) -> Vec<Object> {
        let (machine, via) = self.ends();
        vec![Object::Machine(machine), Object::Host(via)]
    }

    fn locks(&self) -> Vec<Lock> {
        let (machine, via) = self.ends();
        vec![
            Lock::exclusive(Object::Machine(machine)),
            Lock::shared(Object::Host(via)),
        ]
    }

    fn premise(&self, view: &View) -> Premise {
        let (machine, via) = self.ends();
        let there = Premise::exist(view, &[Object::Host(via)]).and(|| Premise::live(view, machine));
        match self {
            Step::Rewrite { sets, .. } => there.and(|| same_disks(view, machine, sets)),
            Step::Grow { .. } => there,
        }
    }

    fn record(&self) -> Option<Event> {
        None
    }

    fn undo(&self, _estate: &Estate, _left: Left) -> Option<Event> {
        None
    }
}

/// What is made larger is still the disk that was meant.
fn same_disks(view: &View, machine: MachineId, sets: &[Set]) -> Premise {
    let machine = view.estate.machines.get(&machine);
    let other = machine.filter(|m| {
        let moved = |set: &Set| matches!(set, Set::DiskSize { disk, key: Some(key), .. } if m.disks.get(*disk).is_none_or(|d| d.key != *key));
        sets.iter().any(moved)
    });
    match other {
        Some(m) => {
            let text = format!("{} has other disks by now.", m.name);
            Finding::stop(Rule::Disk, &m.name, text).into()
        }
        None => Premise::Holds,
    }
}

impl Step {
    /// The machine, and the host that is told.
    fn ends(&self) -> (MachineId, HostId) {
        match self {
            Step::Rewrite { machine, via, .. } | Step::Grow { machine, via, .. } => (*machine, *via),
        }
    }
}
