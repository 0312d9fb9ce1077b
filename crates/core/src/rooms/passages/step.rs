//! What is done around the stages of a plan. Most of it speaks to no device; it is carried out all the same, by a process that
//! knows what time it is.

use super::Event;
use crate::{
    estate::Estate,
    finding::{Finding, Rule},
    ids::{HostId, MachineId, PassageId, PlanId, SiteId},
    moment::Span,
    road::{Left, Length, Premise, Urgency, Work},
    runs::{Lock, Object},
    view::View,
};
use serde::{Deserialize, Serialize};

/// How a passage is known to its steps.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Of {
    pub plan: PlanId,
    pub passage: PassageId,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, strum::VariantNames)]
#[strum(serialize_all = "snake_case")]
#[serde(rename_all = "snake_case")]
pub enum Step {
    /// A stage begins.
    Open { of: Of, stage: usize },
    /// A person is asked.
    Ask { of: Of, mark: u64 },
    /// Until somebody has answered.
    Hear { of: Of, mark: u64 },
    /// Whether all of a stage is well; else a person is asked.
    Judge {
        of: Of,
        stage: usize,
        mark: u64,
        copies: Vec<(MachineId, String)>,
    },
    /// Until all of a stage is well after all, or somebody says that it may go on as it is.
    Mend {
        of: Of,
        stage: usize,
        mark: u64,
        copies: Vec<(MachineId, String)>,
    },
    /// Time passes.
    Pause { of: Of, mark: u64, time: Span },
    /// A command in a guest that is up.
    Command {
        of: Of,
        mark: u64,
        machine: MachineId,
        /// Where it is on.
        host: HostId,
        command: String,
        /// It may take so long until it ends well.
        limit: Span,
    },
    /// All of a stage is over: what came of its machines is taken from what their copies answered, each by its name.
    Close {
        of: Of,
        stage: usize,
        copies: Vec<(MachineId, String)>,
    },
    /// The plan leads the other way from now on: its machines are there.
    Turn { of: Of, from: SiteId },
    /// All of it is over.
    End { of: Of },
}

impl Step {
    fn of(&self) -> Of {
        match self {
            Step::Open { of, .. }
            | Step::Ask { of, .. }
            | Step::Hear { of, .. }
            | Step::Judge { of, .. }
            | Step::Mend { of, .. }
            | Step::Pause { of, .. }
            | Step::Command { of, .. }
            | Step::Close { of, .. }
            | Step::Turn { of, .. }
            | Step::End { of } => *of,
        }
    }
}

impl Work for Step {
    type Event = Event;

    fn group(&self) -> &'static str {
        match self {
            Step::Open { .. } => "begin a stage",
            Step::Ask { .. } => "ask a person",
            Step::Hear { .. } => "wait for a person",
            Step::Judge { .. } => "see whether all are well",
            Step::Mend { .. } => "wait until all are well",
            Step::Pause { .. } => "let time pass",
            Step::Command { .. } => "run a command in a guest",
            Step::Close { .. } => "end a stage",
            Step::Turn { .. } => "turn the plan",
            Step::End { .. } => "write the report",
        }
    }

    fn length(&self) -> Length {
        match self {
            Step::Pause { time, .. } => Length::Computed(*time),
            Step::Command { .. } => Length::Call(Span::secs(1)),
            // Of what people take nothing is foretold.
            Step::Open { .. }
            | Step::Ask { .. }
            | Step::Hear { .. }
            | Step::Judge { .. }
            | Step::Mend { .. }
            | Step::Close { .. }
            | Step::Turn { .. }
            | Step::End { .. } => Length::Computed(Span(0)),
        }
    }

    fn pause(&self) -> Span {
        match self {
            // Whoever looks oftener only makes pages look too.
            Step::Hear { .. } | Step::Mend { .. } => Span::secs(5),
            Step::Open { .. }
            | Step::Ask { .. }
            | Step::Judge { .. }
            | Step::Pause { .. }
            | Step::Command { .. }
            | Step::Close { .. }
            | Step::Turn { .. }
            | Step::End { .. } => Span::secs(1),
        }
    }

    fn may_be_left(&self) -> bool {
        matches!(self, Step::Command { .. })
    }

    fn goes_on(&self) -> bool {
        false
    }

    fn device(&self, _estate: &Estate) -> Option<Object> {
        match self {
            Step::Command { host, .. } => Some(Object::Host(*host)),
            Step::Open { .. }
            | Step::Ask { .. }
            | Step::Hear { .. }
            | Step::Judge { .. }
            | Step::Mend { .. }
            | Step::Pause { .. }
            | Step::Close { .. }
            | Step::Turn { .. }
            | Step::End { .. } => None,
        }
    }

    fn urgency(&self) -> Urgency {
        Urgency::Ordinary
    }

    fn about(&self) -> Vec<Object> {
        let plan = Object::Plan(self.of().plan);
        match self {
            Step::Command { machine, host, .. } => vec![plan, Object::Machine(*machine), Object::Host(*host)],
            Step::Judge { copies, .. } | Step::Mend { copies, .. } => {
                let all = copies.iter().map(|(id, _)| Object::Machine(*id));
                [plan].into_iter().chain(all).collect()
            }
            Step::Open { .. } | Step::Ask { .. } | Step::Hear { .. } | Step::Pause { .. } | Step::Close { .. } | Step::Turn { .. } | Step::End { .. } => vec![plan],
        }
    }

    fn locks(&self) -> Vec<Lock> {
        vec![]
    }

    fn premise(&self, view: &View) -> Premise {
        match view.estate.passages.contains_key(&self.of().passage) {
            true => Premise::Holds,
            false => Finding::stop(Rule::Exists, "plan", "Nothing is known of how this plan is carried out.").into(),
        }
    }

    fn record(&self) -> Option<Event> {
        None
    }

    fn undo(&self, _estate: &Estate, _left: Left) -> Option<Event> {
        match self {
            Step::End { of } => Some(Event::Left { passage: of.passage }),
            Step::Open { .. }
            | Step::Ask { .. }
            | Step::Hear { .. }
            | Step::Judge { .. }
            | Step::Mend { .. }
            | Step::Pause { .. }
            | Step::Command { .. }
            | Step::Close { .. }
            | Step::Turn { .. } => None,
        }
    }
}
