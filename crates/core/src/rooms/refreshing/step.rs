//! What a host does to copy a disk.

use super::Event;
use crate::{
    copying::rests,
    estate::{Disk, Estate},
    finding::{Finding, Rule},
    ids::{HostId, MachineId},
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
    Copy {
        machine: MachineId,
        via: HostId,
        /// What is written: one that it has, or a new one.
        disk: Disk,
        new: bool,
        from: MachineId,
        snapshot: Option<Uuid>,
        /// Its place among the disks of that machine.
        place: usize,
        time: Span,
    },
}

impl Work for Step {
    type Event = Event;

    fn group(&self) -> &'static str {
        "copy a disk"
    }

    fn length(&self) -> Length {
        let Step::Copy { time, .. } = self;
        Length::Computed(*time)
    }

    fn pause(&self) -> Span {
        Span::millis(300)
    }

    fn goes_on(&self) -> bool {
        // The host goes on by itself.
        true
    }

    fn device(&self, _estate: &Estate) -> Option<Object> {
        let Step::Copy { via, .. } = self;
        Some(Object::Host(*via))
    }

    fn urgency(&self) -> Urgency {
        Urgency::Ordinary
    }

    fn about(&self) -> Vec<Object> {
        let Step::Copy { machine, from, via, .. } = self;
        vec![Object::Machine(*machine), Object::Machine(*from), Object::Host(*via)]
    }

    fn locks(&self) -> Vec<Lock> {
        let Step::Copy { machine, from, via, .. } = self;
        vec![
            Lock::exclusive(Object::Machine(*machine)),
            Lock::shared(Object::Machine(*from)),
            Lock::shared(Object::Host(*via)),
        ]
    }

    fn premise(&self, view: &View) -> Premise {
        let Step::Copy { machine, via, disk, new, from, .. } = self;
        let there = Premise::exist(view, &[Object::Host(*via), Object::Machine(*from)]);
        there.and(|| Premise::live(view, *machine)).and(|| match view.estate.machines.get(machine) {
            Some(m) if !new => match (rests(m), m.disk(disk.key)) {
                (Some((_, text)), _) => Finding::stop(Rule::State, &m.name, text).into(),
                (None, None) => Finding::stop(Rule::Exists, &m.name, format!("{} has this disk no more.", m.name)).into(),
                (None, Some(_)) => Premise::Holds,
            },
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
