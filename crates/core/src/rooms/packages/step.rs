//! What hosts do with files of disks.

use super::Event;
use crate::{
    copying::rests,
    estate::Estate,
    finding::{Finding, Rule},
    ids::{HostId, ImageId, MachineId},
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
    Pack {
        image: ImageId,
        machine: MachineId,
        snapshot: Option<Uuid>,
        disk: Option<Uuid>,
        gzip: bool,
        via: HostId,
        time: Span,
    },
    Fill {
        machine: MachineId,
        disk: Uuid,
        image: ImageId,
        via: HostId,
        time: Span,
    },
}

impl Step {
    pub fn machine(&self) -> MachineId {
        match self {
            Step::Pack { machine, .. } | Step::Fill { machine, .. } => *machine,
        }
    }
    pub fn image(&self) -> ImageId {
        match self {
            Step::Pack { image, .. } | Step::Fill { image, .. } => *image,
        }
    }
    pub fn via(&self) -> HostId {
        match self {
            Step::Pack { via, .. } | Step::Fill { via, .. } => *via,
        }
    }
}

impl Work for Step {
    type Event = Event;

    fn group(&self) -> &'static str {
        match self {
            Step::Pack { .. } => "pack into a file",
            Step::Fill { .. } => "write from a file",
        }
    }

    fn length(&self) -> Length {
        match self {
            Step::Pack { time, .. } | Step::Fill { time, .. } => Length::Computed(*time),
        }
    }

    fn pause(&self) -> Span {
        Span::millis(300)
    }

    fn goes_on(&self) -> bool {
        // The host goes on by itself.
        true
    }

    fn device(&self, _estate: &Estate) -> Option<Object> {
        Some(Object::Host(self.via()))
    }

    fn urgency(&self) -> Urgency {
        Urgency::Ordinary
    }

    fn about(&self) -> Vec<Object> {
        vec![Object::Machine(self.machine()), Object::Image(self.image()), Object::Host(self.via())]
    }

    fn locks(&self) -> Vec<Lock> {
        let (machine, image) = (Object::Machine(self.machine()), Object::Image(self.image()));
        let via = Lock::shared(Object::Host(self.via()));
        match self {
            Step::Pack { .. } => vec![Lock::shared(machine), Lock::exclusive(image), via],
            Step::Fill { .. } => vec![Lock::exclusive(machine), Lock::shared(image), via],
        }
    }

    fn premise(&self, view: &View) -> Premise {
        let there = Premise::exist(view, &[Object::Host(self.via()), Object::Image(self.image())]);
        there.and(|| Premise::live(view, self.machine())).and(|| match self {
            Step::Pack { .. } => Premise::exist(view, &[Object::Machine(self.machine())]),
            Step::Fill { machine, .. } => writable(view, *machine),
        })
    }

    fn record(&self) -> Option<Event> {
        None
    }

    fn undo(&self, _estate: &Estate, left: Left) -> Option<Event> {
        match (self, left) {
            (Step::Pack { image, .. }, Left::Undone { .. }) => Some(Event::Dropped { image: *image }),
            // Nobody knows whether it is there: it stays listed until somebody removes it.
            (Step::Pack { .. }, Left::Open { .. }) => None,
            (Step::Fill { .. }, Left::Undone { .. } | Left::Open { .. }) => None,
        }
    }
}

fn writable(view: &View, machine: MachineId) -> Premise {
    let Some(m) = view.estate.machines.get(&machine) else {
        return Premise::exist(view, &[Object::Machine(machine)]);
    };
    match rests(m) {
        Some((_, text)) => Finding::stop(Rule::State, &m.name, text).into(),
        None => Premise::exist(view, &[Object::Machine(machine)]),
    }
}
