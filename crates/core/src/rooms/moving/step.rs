//! A machine on its way, or its disks.

use super::Event;
use crate::{
    estate::Estate,
    moment::Span,
    road::{Left, Length, Premise, Urgency, Work},
    runs::{Lock, Object},
    view::View,
    ids::{HostId, MachineId, VolumeId},
    migration::Course,
    units::Bytes,
};
use serde::{Deserialize, Serialize};

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, strum::VariantNames)]
#[strum(serialize_all = "snake_case")]
#[serde(rename_all = "snake_case")]
pub enum Step {
    /// While it runs; the run lease is switched from one host to the other.
    Move {
        machine: MachineId,
        from: HostId,
        to: HostId,
        line: super::Line,
        foretold: Box<Course>,
    },
    /// Copies a machine's record and disks to another volume, and lets it go on from there.
    MoveDisks {
        machine: MachineId,
        via: HostId,
        from: VolumeId,
        to: VolumeId,
        bytes: Bytes,
        /// How long it was computed to take.
        time: Span,
    },
}

impl Work for Step {
    type Event = Event;

    fn group(&self) -> &'static str {
        match self {
            Step::Move { .. } => "move while it runs",
            Step::MoveDisks { .. } => "copy its disks, go on from there",
        }
    }

    fn length(&self) -> Length {
        match self {
            Step::Move { foretold, .. } => Length::Computed(foretold.time()),
            Step::MoveDisks { time, .. } => Length::Computed(*time),
        }
    }

    fn pause(&self) -> Span {
        Span::millis(300)
    }

    fn goes_on(&self) -> bool {
        match self {
            Step::Move { .. } | Step::MoveDisks { .. } => true,
        }
    }

    fn device(&self, _estate: &Estate) -> Option<Object> {
        match self {
            Step::Move { from, .. } => Some(Object::Host(*from)),
            Step::MoveDisks { via, .. } => Some(Object::Host(*via)),
        }
    }

    fn urgency(&self) -> Urgency {
        Urgency::Ordinary
    }

    fn about(&self) -> Vec<Object> {
        match self {
            Step::Move {
                machine, from, to, ..
            } => vec![
                Object::Machine(*machine),
                Object::Host(*from),
                Object::Host(*to),
            ],
            Step::MoveDisks {
                machine,
                via,
                from,
                to,
                ..
            } => vec![
                Object::Machine(*machine),
                Object::Host(*via),
                Object::Volume(*from),
                Object::Volume(*to),
            ],
        }
    }

    fn locks(&self) -> Vec<Lock> {
        match self {
            Step::Move {
                machine, from, to, ..
            } => vec![
                Lock::exclusive(Object::Machine(*machine)),
                Lock::shared(Object::Host(*from)),
                Lock::shared(Object::Host(*to)),
            ],
            Step::MoveDisks {
                machine,
                via,
                from,
                to,
                ..
            } => vec![
                Lock::exclusive(Object::Machine(*machine)),
                Lock::shared(Object::Host(*via)),
                Lock::shared(Object::Volume(*from)),
                Lock::shared(Object::Volume(*to)),
            ],
        }
    }

    fn premise(&self, view: &View) -> Premise {
        match self {
            Step::Move { machine, to, .. } => Premise::exist(view, &[Object::Host(*to)])
                .and(|| Premise::live(view, *machine))
                .and(|| Premise::fits(view, *machine, *to)),
            Step::MoveDisks { machine, via, .. } => {
                Premise::exist(view, &[Object::Host(*via)]).and(|| Premise::live(view, *machine))
            }
        }
    }

    fn record(&self) -> Option<Event> {
        None
    }

    fn undo(&self, _estate: &Estate, _left: Left) -> Option<Event> {
        match self {
            Step::Move { machine, .. } => Some(Event::Moving {
                machine: *machine,
                to: None,
            }),
            Step::MoveDisks { .. } => None,
        }
    }
}
