//! What movers do. The machine is not taken for it: it runs, moves and is edited meanwhile, for what is read is a state that stands
//! still; where it is by then, it is read there.

use super::Event;
use crate::{
    estate::{Estate, MachineState},
    finding::{Finding, Rule},
    ids::{HostId, MachineId, SeriesId, StoreId},
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
    Copy {
        machine: MachineId,
        via: HostId,
        /// The point has its identity too.
        snapshot: Uuid,
        store: StoreId,
        series: SeriesId,
        /// As it was computed.
        bytes: Bytes,
        time: Span,
    },
}

impl Work for Step {
    type Event = Event;

    fn group(&self) -> &'static str {
        match self {
            Step::Copy { .. } => "copy to a store",
        }
    }

    fn length(&self) -> Length {
        match self {
            Step::Copy { time, .. } => Length::Computed(*time),
        }
    }

    fn pause(&self) -> Span {
        Span::millis(500)
    }

    fn goes_on(&self) -> bool {
        match self {
            // A mover carries on by itself until it is told to stop.
            Step::Copy { .. } => true,
        }
    }

    fn device(&self, estate: &Estate) -> Option<Object> {
        match self {
            Step::Copy { machine, via, .. } => {
                let at = estate.machines.get(machine).and_then(|m| m.host);
                Some(Object::Host(at.unwrap_or(*via)))
            }
        }
    }

    fn urgency(&self) -> Urgency {
        Urgency::Ordinary
    }

    fn about(&self) -> Vec<Object> {
        match self {
            Step::Copy { machine, store, .. } => vec![Object::Machine(*machine), Object::Store(*store)],
        }
    }

    fn locks(&self) -> Vec<Lock> {
        match self {
            Step::Copy { store, .. } => vec![Lock::shared(Object::Store(*store))],
        }
    }

    fn premise(&self, view: &View) -> Premise {
        match self {
            Step::Copy { machine, snapshot, store, .. } => {
                let there = Premise::exist(view, &[Object::Machine(*machine), Object::Store(*store)]);
                there.and(|| taken(view, *machine, *snapshot))
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

fn taken(view: &View, machine: MachineId, snapshot: Uuid) -> Premise {
    let machine = view.estate.machines.get(&machine).filter(|m| m.state != MachineState::Planned);
    match machine.map(|m| (m, m.snapshots.get(snapshot))) {
        Some((_, Some(_))) => Premise::exist(view, &[]),
        Some((m, None)) => Finding::stop(Rule::Exists, &m.name, "The state that was to be copied is gone.").into(),
        None => Finding::stop(Rule::Exists, "machine", "The machine is gone.").into(),
    }
}
