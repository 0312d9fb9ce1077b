//! One run with the states of its steps. Their number is known from the start, so a step that has not been touched costs
//! a pointer, in memory and nothing in the store.

use super::Fault;
use crate::{
    ids::{Revision, RunId},
    moment::Moment,
    permits::Who,
};
use imbl::Vector;
use serde::{Deserialize, Serialize};
use std::sync::Arc;

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum RunState {
    Running,
    /// A step failed; a person decides: retry or cancel.
    NeedsYou,
    Cancelling,
    Done,
    Cancelled,
}

impl RunState {
    pub fn open(self) -> bool {
        !matches!(self, RunState::Done | RunState::Cancelled)
    }
    pub fn word(self) -> &'static str {
        match self {
            RunState::Running => "running",
            RunState::NeedsYou => "needs you",
            RunState::Cancelling => "stopping",
            RunState::Done => "done",
            RunState::Cancelled => "cancelled",
        }
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Phase {
    Waiting,
    /// Waits for what another run holds.
    Queued {
        behind: RunId,
        since: Revision,
    },
    Running,
    Done,
    Failed,
    Skipped,
}

/// What a device may still be doing for a step whose answer did not come. As long as it may, the step holds what it took.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Tail {
    #[default]
    None,
    /// For all we know it goes on.
    GoesOn,
    /// It was told to stop and has not said that it did.
    ToldToStop,
}

impl Tail {
    pub fn is_none(&self) -> bool {
        *self == Tail::None
    }
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct StepState {
    pub phase: Phase,
    /// Calls made since the last progress.
    pub attempt: u32,
    pub began: Option<Moment>,
    pub ended: Option<Moment>,
    /// The device's answer, or its words when it failed.
    pub said: String,
    pub fault: Option<Fault>,
    /// The revision at which the step took its objects.
    pub fence: Revision,
    #[serde(default, skip_serializing_if = "Tail::is_none")]
    pub tail: Tail,
}

impl StepState {
    pub fn waiting() -> Self {
        StepState {
            phase: Phase::Waiting,
            attempt: 0,
            began: None,
            ended: None,
            said: String::new(),
            fault: None,
            fence: Revision(0),
            tail: Tail::None,
        }
    }
    pub fn pending(&self) -> bool {
        matches!(self.phase, Phase::Waiting | Phase::Queued { .. })
    }
}

/// How many steps are in which phase; kept with every change, so that nobody counts.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Tally {
    pub waiting: usize,
    pub queued: usize,
    pub running: usize,
    pub done: usize,
    pub failed: usize,
    pub skipped: usize,
}

impl Tally {
    pub fn all(&self) -> usize {
        self.waiting + self.queued + self.running + self.done + self.failed + self.skipped
    }
    fn slot(&mut self, phase: Phase) -> &mut usize {
        match phase {
            Phase::Waiting => &mut self.waiting,
            Phase::Queued { .. } => &mut self.queued,
            Phase::Running => &mut self.running,
            Phase::Done => &mut self.done,
            Phase::Failed => &mut self.failed,
            Phase::Skipped => &mut self.skipped,
        }
    }
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Run {
    pub id: RunId,
    pub title: String,
    pub by: Who,
    /// The sheet's number: a double click finds the same run.
    pub request: uuid::Uuid,
    pub state: RunState,
    pub began: Moment,
    pub ended: Option<Moment>,
    pub tally: Tally,
    /// Stored one by one, beside the run.
    #[serde(skip)]
    steps: Vector<Arc<StepState>>,
}

impl Run {
    pub fn new(
        id: RunId,
        title: String,
        by: Who,
        request: uuid::Uuid,
        steps: usize,
        now: Moment,
    ) -> Self {
        let mut run = Run {
            id,
            title,
            by,
            request,
            state: RunState::Running,
            began: now,
            ended: None,
            tally: Tally {
                waiting: steps,
                ..Tally::default()
            },
            steps: Vector::new(),
        };
        run.untouched();
        run
    }

    /// After reading the run alone: no step has been touched, until [`Run::set`] says otherwise.
    pub fn untouched(&mut self) {
        let all = self.tally.all();
        let blank = Arc::new(StepState::waiting());
        self.steps = std::iter::repeat_n(blank, all).collect();
        self.tally = Tally {
            waiting: all,
            ..Tally::default()
        };
    }

    pub fn steps(&self) -> impl ExactSizeIterator<Item = &StepState> {
        self.steps.iter().map(|s| &**s)
    }
    pub fn step(&self, n: usize) -> Option<&StepState> {
        self.steps.get(n).map(|s| &**s)
    }
    pub fn phase(&self, n: usize) -> Option<Phase> {
        self.step(n).map(|s| s.phase)
    }
    /// Replaces the state of one step; one that the run doesn't have is left out.
    pub fn set(&mut self, n: usize, state: StepState) {
        let Some(was) = self.phase(n) else { return };
        *self.tally.slot(was) -= 1;
        *self.tally.slot(state.phase) += 1;
        self.steps.set(n, Arc::new(state));
    }
    /// The steps in this phase, in their order.
    pub fn in_phase(&self, phase: Phase) -> impl Iterator<Item = (usize, &StepState)> {
        self.steps()
            .enumerate()
            .filter(move |(_, s)| s.phase == phase)
    }
    /// Steps that have ended, of all.
    pub fn progress(&self) -> (usize, usize) {
        (self.tally.done, self.tally.all())
    }
}
