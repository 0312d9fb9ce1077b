//! What is done to templates, at hosts that reach their volumes.

use super::Event;
use crate::{
    estate::{Estate, Parent},
    finding::{Finding, Rule},
    ids::{HostId, MachineId, TemplateId},
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
    Make {
        template: TemplateId,
        version: u32,
        machine: MachineId,
        snapshot: Option<Uuid>,
        via: HostId,
        seal: bool,
        time: Span,
    },
    Remove {
        template: TemplateId,
        version: u32,
        via: HostId,
    },
    Whole {
        machine: MachineId,
        via: HostId,
        time: Span,
    },
}

impl Work for Step {
    type Event = Event;

    fn group(&self) -> &'static str {
        match self {
            Step::Make { .. } => "copy to a template",
            Step::Remove { .. } => "remove a version",
            Step::Whole { .. } => "make whole",
        }
    }

    fn length(&self) -> Length {
        match self {
            Step::Make { time, .. } | Step::Whole { time, .. } => Length::Computed(*time),
            Step::Remove { .. } => Length::Call(Span::secs(1)),
        }
    }

    fn pause(&self) -> Span {
        Span::millis(300)
    }

    fn goes_on(&self) -> bool {
        match self {
            // The host goes on copying by itself.
            Step::Make { .. } | Step::Whole { .. } => true,
            Step::Remove { .. } => false,
        }
    }

    fn device(&self, _estate: &Estate) -> Option<Object> {
        Some(Object::Host(self.via()))
    }

    fn urgency(&self) -> Urgency {
        Urgency::Ordinary
    }

    fn about(&self) -> Vec<Object> {
        let via = Object::Host(self.via());
        match self {
            Step::Make { template, machine, .. } => vec![Object::Template(*template), Object::Machine(*machine), via],
            Step::Remove { template, .. } => vec![Object::Template(*template), via],
            Step::Whole { machine, .. } => vec![Object::Machine(*machine), via],
        }
    }

    fn locks(&self) -> Vec<Lock> {
        let via = Lock::shared(Object::Host(self.via()));
        match self {
            // Its snapshots stay, and it is not moved; others may copy it too.
            Step::Make { template, machine, .. } => {
                let of = Lock::shared(Object::Machine(*machine));
                vec![Lock::exclusive(Object::Template(*template)), of, via]
            }
            Step::Remove { template, .. } => vec![Lock::exclusive(Object::Template(*template)), via],
            Step::Whole { machine, .. } => vec![Lock::exclusive(Object::Machine(*machine)), via],
        }
    }

    fn premise(&self, view: &View) -> Premise {
        let via = Premise::exist(view, &[Object::Host(self.via())]);
        match self {
            Step::Make { template, machine, .. } => via
                .and(|| Premise::exist(view, &[Object::Template(*template)]))
                .and(|| Premise::live(view, *machine)),
            Step::Remove { template, version, .. } => via.and(|| free(view, *template, *version)),
            Step::Whole { machine, .. } => via.and(|| Premise::live(view, *machine)),
        }
    }

    fn record(&self) -> Option<Event> {
        None
    }

    fn undo(&self, _estate: &Estate, left: Left) -> Option<Event> {
        match (self, left) {
            (Step::Make { template, version, .. }, Left::Undone { .. }) => Some(Event::Dropped {
                template: *template,
                version: *version,
            }),
            // Nobody knows whether it is there: it stays listed until somebody removes it.
            (Step::Make { .. }, Left::Open { .. }) => None,
            (Step::Remove { .. } | Step::Whole { .. }, Left::Undone { .. } | Left::Open { .. }) => None,
        }
    }
}

impl Step {
    pub fn via(&self) -> HostId {
        match self {
            Step::Make { via, .. } | Step::Remove { via, .. } | Step::Whole { via, .. } => *via,
        }
    }
}

/// Nothing lies on it.
fn free(view: &View, template: TemplateId, version: u32) -> Premise {
    match view.estate.dependents(Parent { template, version }).next() {
        Some(m) => {
            let text = format!("The disks of {} lie on it by now.", m.name);
            Finding::stop(Rule::Held, &m.name, text).into()
        }
        None => Premise::exist(view, &[Object::Template(template)]),
    }
}
