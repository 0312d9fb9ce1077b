//! A guest is waited for and asked. Whatever it answers, the step is done: that it does not come up is an answer.

use super::Event;
use crate::{
    estate::{AnyPoint, Estate, Question},
    ids::{HostId, MachineId},
    moment::Span,
    road::{Left, Length, Premise, Urgency, Work},
    runs::{GUEST_ANSWERS, Lock, Object},
    view::View,
};
use serde::{Deserialize, Serialize};

/// So long a copy may take until its guest has answered, where nobody says otherwise.
pub const LIMIT: Span = Span::mins(5);

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, strum::VariantNames)]
#[strum(serialize_all = "snake_case")]
#[serde(rename_all = "snake_case")]
pub enum Step {
    Try {
        machine: MachineId,
        /// Where it is on.
        host: HostId,
        /// It is a copy of that point.
        point: Option<AnyPoint>,
        limit: Span,
        must: Vec<Question>,
        /// Whose copies are booted with it.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        with: Vec<String>,
    },
}

impl Work for Step {
    type Event = Event;

    fn group(&self) -> &'static str {
        "ask whether it is well"
    }

    fn length(&self) -> Length {
        Length::Wait(GUEST_ANSWERS.1)
    }

    fn pause(&self) -> Span {
        Span::millis(500)
    }

    fn may_be_left(&self) -> bool {
        true
    }

    fn goes_on(&self) -> bool {
        false
    }

    fn device(&self, _estate: &Estate) -> Option<Object> {
        let Step::Try { host, .. } = self;
        Some(Object::Host(*host))
    }

    fn urgency(&self) -> Urgency {
        Urgency::Ordinary
    }

    fn about(&self) -> Vec<Object> {
        let Step::Try { machine, host, point, .. } = self;
        let store = point.map(super::holds);
        [Object::Machine(*machine), Object::Host(*host)].into_iter().chain(store).collect()
    }

    fn locks(&self) -> Vec<Lock> {
        vec![]
    }

    fn premise(&self, view: &View) -> Premise {
        let Step::Try { machine, host, .. } = self;
        Premise::exist(view, &[Object::Host(*host)]).and(|| Premise::live(view, *machine))
    }

    fn record(&self) -> Option<Event> {
        None
    }

    fn undo(&self, _estate: &Estate, _left: Left) -> Option<Event> {
        None
    }
}
