//! What is done to snapshots, at the host that runs the machine, or at one that reaches its volume.

use super::{Event, Quiet};
use crate::{
    estate::Estate,
    finding::{Finding, Rule},
    ids::{HostId, MachineId},
    moment::{Moment, Span},
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
    Take {
        machine: MachineId,
        via: HostId,
        snapshot: Uuid,
        name: String,
        note: String,
        quiet: Quiet,
        memory: bool,
        ends: Option<Moment>,
        time: Span,
    },
    Back {
        machine: MachineId,
        via: HostId,
        to: Uuid,
    },
    Forget {
        machine: MachineId,
        via: HostId,
        snapshots: Vec<Uuid>,
        /// What was computed to be copied, and how long that takes.
        bytes: Bytes,
        time: Span,
    },
}

impl Work for Step {
    type Event = Event;

    fn group(&self) -> &'static str {
        match self {
            Step::Take { .. } => "take a snapshot",
            Step::Back { .. } => "go back to a snapshot",
            Step::Forget { .. } => "delete snapshots",
        }
    }

    fn length(&self) -> Length {
        match self {
            Step::Take { time, memory: true, .. } | Step::Forget { time, .. } => Length::Computed(*time),
            Step::Take { memory: false, .. } | Step::Back { .. } => Length::Call(Span::secs(1)),
        }
    }

    fn pause(&self) -> Span {
        Span::millis(300)
    }

    fn goes_on(&self) -> bool {
        match self {
            // The host goes on folding, or writing memory, by itself.
            Step::Take { .. } | Step::Forget { .. } => true,
            Step::Back { .. } => false,
        }
    }

    fn device(&self, _estate: &Estate) -> Option<Object> {
        Some(Object::Host(self.via()))
    }

    fn urgency(&self) -> Urgency {
        Urgency::Ordinary
    }

    fn about(&self) -> Vec<Object> {
        vec![Object::Machine(self.machine()), Object::Host(self.via())]
    }

    fn locks(&self) -> Vec<Lock> {
        vec![
            Lock::exclusive(Object::Machine(self.machine())),
            Lock::shared(Object::Host(self.via())),
        ]
    }

    fn premise(&self, view: &View) -> Premise {
        let (machine, host) = (self.machine(), Object::Host(self.via()));
        let there = Premise::exist(view, &[host]).and(|| Premise::live(view, machine));
        match self {
            Step::Back { to, .. } => there.and(|| known(view, machine, *to)),
            Step::Take { .. } | Step::Forget { .. } => there,
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
    pub fn machine(&self) -> MachineId {
        match self {
            Step::Take { machine, .. } | Step::Back { machine, .. } | Step::Forget { machine, .. } => *machine,
        }
    }
    pub fn via(&self) -> HostId {
        match self {
            Step::Take { via, .. } | Step::Back { via, .. } | Step::Forget { via, .. } => *via,
        }
    }
}

fn known(view: &View, machine: MachineId, to: Uuid) -> Premise {
    let machine = view.estate.machines.get(&machine);
    match machine.and_then(|m| m.snapshots.get(to)) {
        Some(_) => Premise::exist(view, &[]),
        None => Finding::stop(Rule::Exists, "snapshot", "The snapshot is gone.").into(),
    }
}
