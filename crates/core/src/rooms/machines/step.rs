//! What is done to machines.

use super::{Copied, Event, premise};
use crate::{
    copying::Source,
    estate::Estate,
    moment::Span,
    road::{Left, Length, Premise, Urgency, Work},
    runs::{GUEST_ANSWERS, Lock, Object},
    view::View,
    estate::{Nic, Wanted},
    ids::{HostId, MachineId},
};
use serde::{Deserialize, Serialize};

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, strum::VariantNames)]
#[strum(serialize_all = "snake_case")]
#[serde(rename_all = "snake_case")]
pub enum Step {
    Create { machine: MachineId, via: HostId },
    /// Made with disks that hold what others hold.
    Copy {
        machine: MachineId,
        via: HostId,
        copied: Copied,
        time: Span,
    },
    Start { machine: MachineId, host: HostId },
    AwaitGuest {
        machine: MachineId,
        limit: Span,
        /// It boots from an image or the network, where an installer comes first.
        #[serde(default, skip_serializing_if = "std::ops::Not::not")]
        installs: bool,
    },
    AskStop { machine: MachineId },
    AwaitOff {
        machine: MachineId,
        grace: Span,
        then: super::AfterGrace,
        /// Its agent is silent: nobody knows whether it heard, so all of the grace may pass.
        #[serde(default, skip_serializing_if = "std::ops::Not::not")]
        silent: bool,
    },
    Off { machine: MachineId },
    Delete { machine: MachineId, via: HostId },
    Recover {
        machine: MachineId,
        via: HostId,
        /// It shall be on afterwards, at this host.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        start: Option<HostId>,
        /// Its cards, where they are on other networks than before.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        cards: Option<Vec<Nic>>,
    },
    Purge { machine: MachineId, via: HostId },
}

impl Work for Step {
    type Event = Event;

    fn group(&self) -> &'static str {
        match self {
            Step::Create { .. } => "create disks and record",
            Step::Copy { .. } => "copy disks, create record",
            Step::Start { .. } => "power on",
            Step::AwaitGuest { installs: true, .. } => "install, then guest answers",
            Step::AwaitGuest { .. } => GUEST_ANSWERS.0,
            Step::AskStop { .. } => "ask the guest to stop",
            Step::AwaitOff { .. } => "wait until it is off",
            Step::Off { .. } => "power off",
            Step::Delete { .. } => "delete, keep recoverable",
            Step::Recover { .. } => "bring back",
            Step::Purge { .. } => "remove for good",
        }
    }

    fn length(&self) -> Length {
        match self {
            Step::AwaitGuest { installs: true, .. } => Length::Wait(Span::secs(40)),
            Step::AwaitGuest { .. } => Length::Wait(GUEST_ANSWERS.1),
            Step::AwaitOff { grace, silent: true, .. } => Length::Computed(*grace),
            Step::AwaitOff { .. } => Length::Wait(Span::secs(8)),
            Step::Copy { copied, time, .. } => match copied.dependent {
                true => Length::Call(*time),
                false => Length::Computed(*time),
            },
            Step::Create { .. }
            | Step::Start { .. }
            | Step::AskStop { .. }
            | Step::Off { .. }
            | Step::Delete { .. }
            | Step::Recover { .. }
            | Step::Purge { .. } => Length::Call(Span::millis(300)),
        }
    }

    fn pause(&self) -> Span {
        Span::millis(300)
    }

    fn may_be_left(&self) -> bool {
        matches!(self, Step::Start { .. } | Step::AwaitGuest { .. } | Step::Off { .. })
    }

    fn goes_on(&self) -> bool {
        // The host goes on copying by itself.
        matches!(self, Step::Copy { .. })
    }

    fn device(&self, estate: &Estate) -> Option<Object> {
        let on = || estate.machines.get(&self.machine()).and_then(|m| m.host);
        self.host().or_else(on).map(Object::Host)
    }

    fn urgency(&self) -> Urgency {
        Urgency::Ordinary
    }

    fn about(&self) -> Vec<Object> {
        let machine = Object::Machine(self.machine());
        std::iter::once(machine).chain(self.host().map(Object::Host)).collect()
    }

    fn locks(&self) -> Vec<Lock> {
        if matches!(self, Step::AwaitGuest { .. }) {
            return vec![];
        }
        let machine = Lock::exclusive(Object::Machine(self.machine()));
        let host = self.host().map(|h| Lock::shared(Object::Host(h)));
        // What is copied stays as it is; several copy it at once.
        let original = if let Step::Copy { copied, .. } = self { Some(Lock::shared(original(copied))) } else { None };
        std::iter::once(machine).chain(host).chain(original).collect()
    }

    fn premise(&self, view: &View) -> Premise {
        premise::of(self, view)
    }

    fn record(&self) -> Option<Event> {
        None
    }

    fn undo(&self, estate: &Estate, left: Left) -> Option<Event> {
        match self {
            Step::Create { machine, .. } | Step::Copy { machine, .. } => Some(match left {
                Left::Undone { .. } => Event::Dropped { machine: *machine },
                Left::Open { at } => Event::LeftOver {
                    machine: *machine,
                    at,
                },
            }),
            // It was meant to be off, and is on: from now on that is how it shall be.
            Step::AwaitOff { machine, .. } | Step::Off { machine } => {
                let machine = estate.machines.get(machine).filter(|m| !m.is_off())?;
                Some(Event::Wanted {
                    machine: machine.id,
                    wanted: Wanted::On,
                    host: machine.host,
                })
            }
            Step::Start { machine, .. } => {
                let machine = estate.machines.get(machine).filter(|m| m.is_off() && m.wanted == Wanted::On)?;
                Some(Event::Wanted {
                    machine: machine.id,
                    wanted: Wanted::Off,
                    host: None,
                })
            }
            Step::AwaitGuest { .. }
            | Step::AskStop { .. }
            | Step::Delete { .. }
            | Step::Recover { .. }
            | Step::Purge { .. } => None,
        }
    }
}

/// What a copy is of, as a thing that can be held.
fn original(copied: &Copied) -> Object {
    match copied.source {
        Source::Template { template, .. } => Object::Template(template),
        Source::Machine { machine, .. } => Object::Machine(machine),
        Source::Package { image } => Object::Image(image),
        Source::Point(at) => Object::Store(at.store),
    }
}

impl Step {
    pub fn machine(&self) -> MachineId {
        match self {
            Step::Create { machine, .. }
            | Step::Copy { machine, .. }
            | Step::Start { machine, .. }
            | Step::AwaitGuest { machine, .. }
            | Step::AskStop { machine }
            | Step::AwaitOff { machine, .. }
            | Step::Off { machine }
            | Step::Delete { machine, .. }
            | Step::Recover { machine, .. }
            | Step::Purge { machine, .. } => *machine,
        }
    }
    /// The host that it names; none: the one that the machine is on.
    pub fn host(&self) -> Option<HostId> {
        match self {
            Step::Create { via: host, .. }
            | Step::Copy { via: host, .. }
            | Step::Start { host, .. }
            | Step::Delete { via: host, .. }
            | Step::Recover { via: host, .. }
            | Step::Purge { via: host, .. } => Some(*host),
            Step::AwaitGuest { .. }
            | Step::AskStop { .. }
            | Step::AwaitOff { .. }
            | Step::Off { .. } => None,
        }
    }
}
