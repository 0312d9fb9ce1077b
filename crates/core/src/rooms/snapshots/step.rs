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
use std::collections::BTreeSet;
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
    /// Several stand still at once: all of them have one, of the same instant, or none has.
    Together {
        name: String,
        note: String,
        ends: Option<Moment>,
        members: Vec<Member>,
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

/// One of several that stand still at once.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Member {
    pub machine: MachineId,
    pub via: HostId,
    pub snapshot: Uuid,
}

impl Work for Step {
    type Event = Event;

    fn group(&self) -> &'static str {
        match self {
            Step::Take { .. } => "take a snapshot",
            Step::Together { .. } => "take snapshots of one instant",
            Step::Back { .. } => "go back to a snapshot",
            Step::Forget { .. } => "delete snapshots",
        }
    }

    fn length(&self) -> Length {
        match self {
            Step::Take { time, memory: true, .. } | Step::Forget { time, .. } => Length::Computed(*time),
            Step::Together { .. } => Length::Call(Span::secs(5)),
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
            Step::Back { .. } | Step::Together { .. } => false,
        }
    }

    fn device(&self, _estate: &Estate) -> Option<Object> {
        self.on().first().map(|(_, via)| Object::Host(*via))
    }

    fn urgency(&self) -> Urgency {
        Urgency::Ordinary
    }

    fn about(&self) -> Vec<Object> {
        let on = self.on().into_iter();
        on.flat_map(|(machine, via)| [Object::Machine(machine), Object::Host(via)]).collect()
    }

    fn locks(&self) -> Vec<Lock> {
        let on = self.on();
        let hosts: BTreeSet<HostId> = on.iter().map(|(_, via)| *via).collect();
        let hosts = hosts.into_iter().map(|via| Lock::shared(Object::Host(via)));
        let machines = on.iter().map(|(machine, _)| Lock::exclusive(Object::Machine(*machine)));
        machines.chain(hosts).collect()
    }

    fn premise(&self, view: &View) -> Premise {
        let there = |premise: Premise, (machine, via): (MachineId, HostId)| {
            premise.and(|| Premise::exist(view, &[Object::Host(via)])).and(|| Premise::live(view, machine))
        };
        let there = self.on().into_iter().fold(Premise::exist(view, &[]), there);
        match self {
            Step::Back { machine, to, .. } => there.and(|| known(view, *machine, *to)),
            Step::Take { .. } | Step::Together { .. } | Step::Forget { .. } => there,
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
    /// The machines, each with the host by which it is done.
    pub fn on(&self) -> Vec<(MachineId, HostId)> {
        match self {
            Step::Take { machine, via, .. } | Step::Back { machine, via, .. } | Step::Forget { machine, via, .. } => vec![(*machine, *via)],
            Step::Together { members, .. } => members.iter().map(|m| (m.machine, m.via)).collect(),
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
