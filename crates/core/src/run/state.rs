//! One run's state machine.

use crate::{
    ids::{Revision, RunId},
    moment::{Moment, Span},
    permits::Who,
    plan::Plan,
};
use serde::{Deserialize, Serialize};

/// How often a call that failed in passing is tried before a person is asked.
pub const TRIES: u32 = 4;

/// How long to wait before attempt `n` (2, 3, …): 1 s, 2 s, 4 s, … up to 30 s.
pub fn backoff(attempt: u32) -> Span {
    Span::secs(
        1u64.checked_shl(attempt.saturating_sub(2))
            .unwrap_or(30)
            .min(30),
    )
}

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
pub enum FaultKind {
    Unreachable,
    TimedOut,
    /// The device said no.
    Refused,
    /// A later run has taken the object.
    Stale,
    /// The answer made no sense.
    Garbled,
    Password,
    /// Another certificate than the pinned one.
    Stranger,
    /// It no longer fits, seen at its turn.
    Premise,
}

/// Why a step failed: the device's words, the sheet's field it comes from, what to do.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Fault {
    pub kind: FaultKind,
    pub said: String,
    pub field: Option<String>,
    pub remedy: String,
}

impl Fault {
    pub fn new(kind: FaultKind, said: impl Into<String>, remedy: impl Into<String>) -> Self {
        Fault {
            kind,
            said: said.into(),
            field: None,
            remedy: remedy.into(),
        }
    }
    /// Worth trying again without asking anybody.
    pub fn passing(&self) -> bool {
        matches!(
            self.kind,
            FaultKind::Unreachable | FaultKind::TimedOut | FaultKind::Garbled
        )
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

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct StepState {
    pub phase: Phase,
    /// Calls made so far.
    pub attempt: u32,
    pub began: Option<Moment>,
    pub ended: Option<Moment>,
    /// The device's answer, or its words when it failed, or how far it is.
    pub said: String,
    pub fault: Option<Fault>,
    /// The revision at which the step took its objects.
    pub fence: Revision,
}

impl StepState {
    fn waiting() -> Self {
        StepState {
            phase: Phase::Waiting,
            attempt: 0,
            began: None,
            ended: None,
            said: String::new(),
            fault: None,
            fence: Revision(0),
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
    pub steps: Vec<StepState>,
}

/// What a run is told.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Input {
    Start,
    Granted {
        step: usize,
        fence: Revision,
    },
    Refused {
        step: usize,
        behind: RunId,
        since: Revision,
    },
    /// It may not go on: what it rests on is no longer so.
    Barred {
        step: usize,
        fault: Fault,
    },
    /// Something was freed: try the queued steps again.
    Recheck,
    Succeeded {
        step: usize,
        said: String,
    },
    /// Not an error: it takes longer; ask again.
    NotYet {
        step: usize,
        said: String,
    },
    Failed {
        step: usize,
        fault: Fault,
    },
    Cancel,
    Retry,
}

/// What a run wants.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Order {
    /// Take the step's locks, check its premise, then say `Granted` or `Refused`.
    Want { step: usize },
    Perform {
        step: usize,
        attempt: u32,
        after: Span,
    },
    /// Locks were given back.
    Freed,
    /// Worth a line in the Logbook.
    Tell(String),
    /// The run is over; undo what was only held for steps that never happened.
    Close,
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
        Run {
            id,
            title,
            by,
            request,
            state: RunState::Running,
            began: now,
            ended: None,
            steps: vec![StepState::waiting(); steps],
        }
    }

    /// Moves the run on. Inputs that no longer apply (an answer for a step that isn't running) change nothing.
    pub fn advance(&mut self, plan: &Plan, input: Input, now: Moment) -> Vec<Order> {
        let mut orders = Vec::new();
        match input {
            Input::Start => {}
            Input::Recheck => {
                orders.extend(
                    self.numbers(|p| matches!(p, Phase::Queued { .. }))
                        .map(|step| Order::Want { step }),
                );
                return orders;
            }
            Input::Granted { step, fence } => {
                // The other ready steps have been wanted already.
                self.granted(step, fence, now, &mut orders);
                return orders;
            }
            Input::Barred { step, fault } => self.barred(step, fault, now, &mut orders),
            Input::Refused {
                step,
                behind,
                since,
            } => {
                if let Some(s) = self.steps.get_mut(step) {
                    let since = if let Phase::Queued { since, .. } = s.phase {
                        since
                    } else {
                        since
                    };
                    s.phase = Phase::Queued { behind, since };
                }
                return orders;
            }
            Input::Succeeded { step, said } => {
                self.finish(step, Phase::Done, said, None, now, &mut orders)
            }
            Input::NotYet { step, said } => self.not_yet(plan, step, said, now, &mut orders),
            Input::Failed { step, fault } => self.failed(plan, step, fault, now, &mut orders),
            Input::Cancel if self.state.open() => {
                self.state = RunState::Cancelling;
                orders.push(Order::Tell("is being stopped".into()));
            }
            Input::Retry if self.state == RunState::NeedsYou => {
                self.state = RunState::Running;
                for s in self.steps.iter_mut().filter(|s| s.phase == Phase::Failed) {
                    *s = StepState::waiting();
                }
                orders.push(Order::Tell("goes on".into()));
            }
            Input::Cancel | Input::Retry => {}
        }
        self.next(plan, now, &mut orders);
        orders
    }

    fn granted(&mut self, step: usize, fence: Revision, now: Moment, orders: &mut Vec<Order>) {
        let pending = |s: &&mut StepState| matches!(s.phase, Phase::Waiting | Phase::Queued { .. });
        let Some(s) = self.steps.get_mut(step).filter(pending) else {
            return;
        };
        s.phase = Phase::Running;
        s.attempt = 1;
        s.began.get_or_insert(now);
        s.fence = fence;
        orders.push(Order::Perform {
            step,
            attempt: 1,
            after: Span(0),
        });
    }

    /// At its turn the step no longer makes sense; no device was told anything.
    fn barred(&mut self, step: usize, fault: Fault, now: Moment, orders: &mut Vec<Order>) {
        let pending = |s: &&mut StepState| matches!(s.phase, Phase::Waiting | Phase::Queued { .. });
        let Some(s) = self.steps.get_mut(step).filter(pending) else {
            return;
        };
        s.phase = Phase::Failed;
        s.ended = Some(now);
        s.said.clone_from(&fault.said);
        orders.push(Order::Tell(fault.said.clone()));
        s.fault = Some(fault);
    }

    fn finish(
        &mut self,
        step: usize,
        phase: Phase,
        said: String,
        fault: Option<Fault>,
        now: Moment,
        orders: &mut Vec<Order>,
    ) {
        let Some(s) = self
            .steps
            .get_mut(step)
            .filter(|s| s.phase == Phase::Running)
        else {
            return;
        };
        s.phase = phase;
        s.ended = Some(now);
        s.said = said;
        s.fault = fault;
        orders.push(Order::Freed);
    }

    fn not_yet(
        &mut self,
        plan: &Plan,
        step: usize,
        said: String,
        now: Moment,
        orders: &mut Vec<Order>,
    ) {
        if self.state == RunState::Cancelling {
            return self.finish(step, Phase::Skipped, said, None, now, orders);
        }
        let Some(s) = self
            .steps
            .get_mut(step)
            .filter(|s| s.phase == Phase::Running)
        else {
            return;
        };
        s.said = said;
        orders.push(Order::Perform {
            step,
            attempt: s.attempt,
            after: plan
                .steps
                .get(step)
                .map_or(Span::secs(1), |p| p.step.pause()),
        });
    }

    fn failed(
        &mut self,
        plan: &Plan,
        step: usize,
        mut fault: Fault,
        now: Moment,
        orders: &mut Vec<Order>,
    ) {
        let Some(s) = self
            .steps
            .get_mut(step)
            .filter(|s| s.phase == Phase::Running)
        else {
            return;
        };
        if fault.passing() && s.attempt < TRIES && self.state == RunState::Running {
            s.attempt += 1;
            s.said = format!("{} Trying again ({} of {TRIES}).", fault.said, s.attempt);
            orders.push(Order::Perform {
                step,
                attempt: s.attempt,
                after: backoff(s.attempt),
            });
            return;
        }
        let planned = plan.steps.get(step);
        if fault.field.is_none() {
            fault.field = planned.and_then(|p| p.field.clone());
        }
        let title = planned.map(|p| p.title.clone()).unwrap_or_default();
        orders.push(Order::Tell(format!("{title} failed: {}", fault.said)));
        self.finish(
            step,
            Phase::Failed,
            fault.said.clone(),
            Some(fault),
            now,
            orders,
        );
    }

    /// What can go on now; and whether the run is over.
    fn next(&mut self, plan: &Plan, now: Moment, orders: &mut Vec<Order>) {
        if self.state == RunState::Running {
            let ready = self
                .numbers(|p| p == Phase::Waiting)
                .filter(|i| self.is_ready(plan, *i));
            orders.extend(ready.map(|step| Order::Want { step }));
        }
        let busy = self.steps.iter().any(|s| s.phase == Phase::Running);
        let pending = orders.iter().any(|o| matches!(o, Order::Want { .. }));
        if busy || pending || !self.state.open() {
            return;
        }
        let queued = self
            .steps
            .iter()
            .any(|s| matches!(s.phase, Phase::Queued { .. }));
        if self.state == RunState::Cancelling {
            self.close(RunState::Cancelled, now, orders);
        } else if self.steps.iter().all(|s| s.phase == Phase::Done) {
            self.close(RunState::Done, now, orders);
        } else if !queued {
            self.state = RunState::NeedsYou;
        }
    }

    fn close(&mut self, state: RunState, now: Moment, orders: &mut Vec<Order>) {
        self.state = state;
        self.ended = Some(now);
        for s in self
            .steps
            .iter_mut()
            .filter(|s| matches!(s.phase, Phase::Waiting | Phase::Queued { .. }))
        {
            s.phase = Phase::Skipped;
        }
        let done = self.steps.iter().filter(|s| s.phase == Phase::Done).count();
        orders.push(Order::Tell(match state {
            RunState::Done => "done".into(),
            _ => format!("cancelled; {done} of {} steps stay done", self.steps.len()),
        }));
        orders.push(Order::Close);
    }

    fn is_ready(&self, plan: &Plan, step: usize) -> bool {
        plan.steps.get(step).is_some_and(|p| {
            p.after
                .iter()
                .all(|i| self.steps.get(*i).is_some_and(|s| s.phase == Phase::Done))
        })
    }

    fn numbers(&self, keep: impl Fn(Phase) -> bool) -> impl Iterator<Item = usize> {
        self.steps
            .iter()
            .enumerate()
            .filter(move |(_, s)| keep(s.phase))
            .map(|(i, _)| i)
    }

    pub fn count(&self, phase: Phase) -> usize {
        self.steps.iter().filter(|s| s.phase == phase).count()
    }
}
