//! One run's state machine: told something, it says what it wants. Nothing here scans the whole run but its beginning,
//! its end and a retry.

use super::{Plan, Work};
use crate::{
    ids::{Revision, RunId},
    moment::{Moment, Span},
    runs::{Fault, Needs, Phase, Run, RunState, StepState, Tail},
};

/// How often a call that failed in passing is tried, without any progress between, before a person is asked.
pub const TRIES: u32 = 4;

/// How long to wait before attempt `n` (2, 3, …): 1 s, 2 s, 4 s, … up to 30 s.
pub fn backoff(attempt: u32) -> Span {
    Span::secs(
        1u64.checked_shl(attempt.saturating_sub(2))
            .unwrap_or(30)
            .min(30),
    )
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
    /// What it would bring about is so already.
    Reached {
        step: usize,
        said: String,
    },
    /// Somebody gave back what it waits for: want it again.
    Again {
        step: usize,
    },
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
    /// Something more urgent took over what it holds: it stops, and may be gone on with later.
    Preempted {
        step: usize,
        fault: Fault,
    },
    /// The run was given up before any device was told of this step.
    Unsent {
        step: usize,
    },
    Cancel,
    Retry,
    /// It goes on without what failed, where that may be left as it is.
    PassOver,
    /// The same, and these, which are done, once more: what they were given was corrected.
    Redo {
        steps: Vec<usize>,
    },
    /// Everything else was said: is it over, or does it need somebody?
    Settle,
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
    /// The state of this step is another now.
    Keep { step: usize },
    /// What the step held or stood in line for is free.
    Freed { step: usize },
    /// Worth a line in the Logbook.
    Tell(String),
    /// The run is over; undo what was only held for steps that never happened.
    Close,
}

/// Moves a run on. Inputs that no longer apply (an answer for a step that isn't running) change nothing.
/// `needs` are those of the plan's steps.
pub fn advance<A, S: Work>(
    run: &mut Run,
    plan: &Plan<A, S>,
    needs: &[Needs],
    input: Input,
    now: Moment,
) -> Vec<Order> {
    let mut at = At {
        run,
        plan,
        needs,
        now,
        orders: Vec::new(),
    };
    match input {
        Input::Start => at.want_ready(),
        Input::Again { step } => at.again(step),
        Input::Granted { step, fence } => at.granted(step, fence),
        Input::Refused {
            step,
            behind,
            since,
        } => at.refused(step, behind, since),
        Input::Barred { step, fault } => at.barred(step, fault),
        Input::Reached { step, said } => at.reached(step, said),
        Input::Succeeded { step, said } => at.succeeded(step, said),
        Input::NotYet { step, said } => at.not_yet(step, said),
        Input::Failed { step, fault } => at.failed(step, fault),
        Input::Preempted { step, fault } => at.preempted(step, fault),
        Input::Unsent { step } => at.unsent(step),
        Input::Cancel => at.cancel(),
        Input::Retry => at.retry(),
        Input::PassOver => at.pass_over(),
        Input::Redo { steps } => at.redo(&steps),
        Input::Settle => at.settle(),
    }
    at.orders
}

/// Whether a run needs somebody only for steps that may be left as they are.
pub fn may_be_left<A, S: Work>(run: &Run, plan: &Plan<A, S>) -> bool {
    let all = plan.steps.iter().enumerate();
    let mut failed = all.filter_map(|(n, p)| {
        let state = run.step(n).filter(|s| s.phase == Phase::Failed)?;
        Some(state.tail.is_none() && p.step.may_be_left())
    });
    run.tally.failed > 0 && failed.all(|left| left)
}

struct At<'a, A, S> {
    run: &'a mut Run,
    plan: &'a Plan<A, S>,
    needs: &'a [Needs],
    now: Moment,
    orders: Vec<Order>,
}

impl<A, S: Work> At<'_, A, S> {
    /// The state of a step that is in one of these phases.
    fn state(&self, step: usize, in_phase: impl Fn(&StepState) -> bool) -> Option<StepState> {
        self.run.step(step).filter(|s| in_phase(s)).cloned()
    }
    /// The state of a step whose turn it is, unless the run is being stopped.
    fn coming(&self, step: usize) -> Option<StepState> {
        let stopping = self.run.state == RunState::Cancelling;
        self.state(step, StepState::pending).filter(|_| !stopping)
    }
    fn running(&self, step: usize) -> Option<StepState> {
        self.state(step, |s| s.phase == Phase::Running)
    }
    fn keep(&mut self, step: usize, state: StepState) {
        self.run.set(step, state);
        self.orders.push(Order::Keep { step });
    }

    fn is_ready(&self, step: usize) -> bool {
        let waits = self.run.phase(step) == Some(Phase::Waiting);
        waits
            && self.plan.steps.get(step).is_some_and(|p| {
                // What a person left as it is holds up nobody; of a run that is being stopped nothing begins.
                let done =
                    |i: &usize| matches!(self.run.phase(*i), Some(Phase::Done | Phase::Skipped));
                let stands =
                    |i: &usize| matches!(self.run.phase(*i), Some(Phase::Failed | Phase::Skipped));
                p.after.iter().rev().all(done)
                    && (p.turn.iter().all(done) || p.turn.iter().any(stands))
            })
    }

    /// Every step that could go on now.
    fn want_ready(&mut self) {
        let ready = (0..self.plan.steps.len()).filter(|n| self.is_ready(*n));
        let wanted: Vec<_> = ready.map(|step| Order::Want { step }).collect();
        self.orders.extend(wanted);
    }

    fn again(&mut self, step: usize) {
        if matches!(self.run.phase(step), Some(Phase::Queued { .. })) {
            self.orders.push(Order::Want { step });
        }
    }

    fn granted(&mut self, step: usize, fence: Revision) {
        let Some(mut s) = self.coming(step) else {
            return;
        };
        s.phase = Phase::Running;
        s.attempt = 1;
        s.began.get_or_insert(self.now);
        s.fence = fence;
        self.keep(step, s);
        self.orders.push(Order::Perform {
            step,
            attempt: 1,
            after: Span(0),
        });
    }

    fn refused(&mut self, step: usize, behind: RunId, since: Revision) {
        let Some(mut s) = self.coming(step) else {
            return;
        };
        let since = match s.phase {
            Phase::Queued { since, .. } => since,
            _ => since,
        };
        let phase = Phase::Queued { behind, since };
        if s.phase != phase {
            s.phase = phase;
            self.keep(step, s);
        }
    }

    /// At its turn the step no longer makes sense; no device was told anything.
    fn barred(&mut self, step: usize, mut fault: Fault) {
        let Some(mut s) = self.coming(step) else {
            return;
        };
        self.name_field(step, &mut fault);
        fault = fault.after(s.fault.as_ref());
        s.phase = Phase::Failed;
        s.ended = Some(self.now);
        s.said.clone_from(&fault.said);
        self.orders.push(Order::Tell(fault.said.clone()));
        s.fault = Some(fault);
        self.keep(step, s);
        self.orders.push(Order::Freed { step });
        self.want_followers(step);
    }

    fn reached(&mut self, step: usize, said: String) {
        if let Some(mut s) = self.coming(step) {
            s.phase = Phase::Done;
            s.began.get_or_insert(self.now);
            s.ended = Some(self.now);
            s.said = said;
            self.keep(step, s);
            self.orders.push(Order::Freed { step });
            self.want_followers(step);
        }
    }

    fn finish(&mut self, step: usize, phase: Phase, said: String, fault: Option<Fault>) {
        let Some(mut s) = self.running(step) else {
            return;
        };
        s.phase = phase;
        s.ended = Some(self.now);
        s.said = said;
        s.fault = fault;
        s.tail = Tail::None;
        self.keep(step, s);
        self.orders.push(Order::Freed { step });
    }

    fn succeeded(&mut self, step: usize, said: String) {
        if self.running(step).is_some() {
            self.finish(step, Phase::Done, said, None);
            self.want_followers(step);
        }
    }

    fn want_followers(&mut self, step: usize) {
        if self.run.state == RunState::Cancelling {
            return;
        }
        let followers = self.needs.get(step).map_or(&[][..], |n| &n.followers);
        let ready = followers.iter().filter(|n| self.is_ready(**n));
        let wanted: Vec<_> = ready.map(|step| Order::Want { step: *step }).collect();
        self.orders.extend(wanted);
    }

    fn not_yet(&mut self, step: usize, said: String) {
        if self.run.state == RunState::Cancelling {
            return self.finish(step, Phase::Skipped, said, None);
        }
        let Some(mut s) = self.running(step) else {
            return;
        };
        // It got on: what failed before has passed.
        let pause = self.plan.steps.get(step).map(|p| p.step.pause());
        s.attempt = 1;
        s.said = said;
        s.fault = None;
        s.tail = Tail::None;
        self.keep(step, s);
        self.orders.push(Order::Perform {
            step,
            attempt: 1,
            after: pause.unwrap_or(Span::secs(1)),
        });
    }

    fn preempted(&mut self, step: usize, fault: Fault) {
        let holds = |s: &StepState| {
            s.phase == Phase::Running || s.phase == Phase::Failed && !s.tail.is_none()
        };
        let Some(mut s) = self.state(step, holds) else {
            return;
        };
        s.tail = Tail::None;
        s.phase = Phase::Running;
        self.run.set(step, s);
        let title = self.plan.steps.get(step).map_or("", |p| &p.title);
        self.orders.push(Order::Tell(format!(
            "{title} was pre-empted: {}",
            fault.said
        )));
        self.finish(step, Phase::Failed, fault.said.clone(), Some(fault));
        self.want_followers(step);
    }

    fn failed(&mut self, step: usize, mut fault: Fault) {
        let Some(mut s) = self.running(step) else {
            return;
        };
        fault = fault.after(s.fault.as_ref());
        let planned = self.plan.steps.get(step);
        let goes_on = planned.is_some_and(|p| p.step.goes_on());
        // A stop that was not heard is worth repeating; what else is given up ends with its answer.
        let worth_it = self.run.state != RunState::Cancelling || goes_on;
        if fault.passing() && s.attempt < TRIES && worth_it {
            s.attempt += 1;
            s.said = format!("{} Trying again ({} of {TRIES}).", fault.said, s.attempt);
            let attempt = s.attempt;
            s.fault = Some(fault).filter(Fault::leaves_open);
            if goes_on && s.tail.is_none() {
                // Whoever cancels before the next attempt must tell the device all the same.
                s.tail = Tail::GoesOn;
            }
            self.keep(step, s);
            self.orders.push(Order::Perform {
                step,
                attempt,
                after: backoff(attempt),
            });
            return;
        }
        self.name_field(step, &mut fault);
        let title = planned.map_or("", |p| &p.title);
        let told = format!("{title} failed: {}", fault.said);
        self.orders.push(Order::Tell(told));
        let silent = fault.passing() || fault.leaves_open();
        if silent && goes_on {
            self.leave_under_way(step, s, fault);
        } else {
            self.finish(step, Phase::Failed, fault.said.clone(), Some(fault));
        }
        // Whoever waited for its turn needn't wait until somebody has looked at this.
        self.want_followers(step);
    }

    /// The device goes on with it for all we know, so what it holds stays held.
    fn leave_under_way(&mut self, step: usize, mut s: StepState, mut fault: Fault) {
        s.tail = match self.run.state {
            RunState::Cancelling => Tail::ToldToStop,
            _ => Tail::GoesOn,
        };
        fault.remedy = match s.tail {
            Tail::None | Tail::GoesOn => {
                "It may still be going on there, so nobody else gets what it holds. Retry when the device answers; \
                 cancelling tells it to stop."
            }
            Tail::ToldToStop => {
                "It was told to stop and has not said that it did. Retry tells it again; cancelling once more gives free \
                 what it holds, although it may still be going on there."
            }
        }
        .into();
        s.phase = Phase::Failed;
        s.ended = Some(self.now);
        s.said.clone_from(&fault.said);
        s.fault = Some(fault);
        self.keep(step, s);
    }

    /// Tells the device of a step that goes on without us.
    fn tell_again(&mut self, step: usize, mut s: StepState, tail: Tail) {
        s.phase = Phase::Running;
        s.attempt = 1;
        s.ended = None;
        s.tail = tail;
        self.keep(step, s);
        self.orders.push(Order::Perform {
            step,
            attempt: 1,
            after: Span(0),
        });
    }

    /// Failed steps that their devices may still be carrying out.
    fn under_way(&self) -> Vec<(usize, StepState)> {
        let left = |s: &StepState| s.phase == Phase::Failed && !s.tail.is_none();
        if self.run.tally.failed == 0 {
            return vec![];
        }
        (0..self.plan.steps.len())
            .filter_map(|n| self.state(n, left).map(|s| (n, s)))
            .collect()
    }

    fn name_field(&self, step: usize, fault: &mut Fault) {
        if fault.field.is_none() {
            let planned = self.plan.steps.get(step);
            fault.field = planned.and_then(|p| p.field.clone());
        }
    }

    fn unsent(&mut self, step: usize) {
        if self.run.state != RunState::Cancelling {
            return;
        }
        let Some(s) = self.running(step) else { return };
        match s.fault {
            // An attempt before a retry may have had its effect.
            Some(fault) => self.finish(step, Phase::Failed, fault.said.clone(), Some(fault)),
            None => {
                let said = "Given up before the device was told.".to_owned();
                self.finish(step, Phase::Skipped, said, None);
            }
        }
    }

    /// Nothing new begins: what waits for others leaves the line.
    fn cancel(&mut self) {
        if !self.run.state.open() || self.run.state == RunState::Cancelling {
            return;
        }
        self.run.state = RunState::Cancelling;
        self.orders.push(Order::Tell("is being stopped".into()));
        for (step, mut s) in self.under_way() {
            if s.tail == Tail::ToldToStop {
                // A person says so, knowing that it may go on.
                s.tail = Tail::None;
                self.keep(step, s);
                self.orders.push(Order::Freed { step });
            } else {
                self.tell_again(step, s, Tail::ToldToStop);
            }
        }
        if self.run.tally.queued == 0 {
            return;
        }
        let in_line = |s: &StepState| matches!(s.phase, Phase::Queued { .. });
        let queued: Vec<_> = (0..self.plan.steps.len())
            .filter_map(|n| self.state(n, in_line).map(|s| (n, s)))
            .collect();
        for (step, mut s) in queued {
            s.phase = Phase::Skipped;
            self.keep(step, s);
            self.orders.push(Order::Freed { step });
        }
    }

    fn retry(&mut self) {
        if self.run.state != RunState::NeedsYou {
            return;
        }
        let under_way = self.under_way();
        let stopping = under_way.iter().any(|(_, s)| s.tail == Tail::ToldToStop);
        for (step, s) in under_way {
            let tail = s.tail;
            self.tell_again(step, s, tail);
        }
        if stopping {
            self.run.state = RunState::Cancelling;
            return self
                .orders
                .push(Order::Tell("is told to stop again".into()));
        }
        self.run.state = RunState::Running;
        self.orders.push(Order::Tell("goes on".into()));
        for step in 0..self.plan.steps.len() {
            if let Some(s) = self.state(step, |s| s.phase == Phase::Failed) {
                let fault = s.fault.filter(Fault::leaves_open);
                self.keep(
                    step,
                    StepState {
                        fault,
                        ..StepState::waiting()
                    },
                );
            }
        }
        self.want_ready();
    }

    /// A person says so: what failed and may be left is left, and the rest goes on. Nothing, where something else failed too.
    fn pass_over(&mut self) {
        if self.run.state != RunState::NeedsYou || !may_be_left(self.run, self.plan) {
            return;
        }
        self.run.state = RunState::Running;
        let failed: Vec<(usize, StepState)> = (0..self.plan.steps.len())
            .filter_map(|n| Some((n, self.state(n, |s| s.phase == Phase::Failed)?)))
            .collect();
        for (step, s) in failed {
            let title = self.plan.steps.get(step).map_or("", |p| &p.title);
            self.orders
                .push(Order::Tell(format!("{title} is left as it is: {}", s.said)));
            self.keep(
                step,
                StepState {
                    phase: Phase::Skipped,
                    ..s
                },
            );
        }
        self.want_ready();
    }

    fn redo(&mut self, steps: &[usize]) {
        if self.run.state != RunState::NeedsYou {
            return;
        }
        for step in steps {
            if self.state(*step, |s| s.phase == Phase::Done).is_some() {
                self.keep(*step, StepState::waiting());
            }
        }
        self.retry();
    }

    fn settle(&mut self) {
        let tally = self.run.tally;
        if tally.running > 0 || !self.run.state.open() {
            return;
        }
        if self.run.state == RunState::Cancelling {
            if self.under_way().is_empty() {
                return self.close(RunState::Cancelled);
            }
            self.run.state = RunState::NeedsYou;
            return;
        }
        if tally.done + tally.skipped == tally.all() {
            return self.close(RunState::Done);
        }
        if tally.queued == 0 {
            self.run.state = RunState::NeedsYou;
        } else {
            self.run.state = RunState::Running;
        }
    }

    fn close(&mut self, state: RunState) {
        self.run.state = state;
        self.run.ended = Some(self.now);
        // Not one by one: a closed run's steps that nobody touched are skipped ones.
        let tally = &mut self.run.tally;
        tally.skipped += tally.waiting + tally.queued;
        (tally.waiting, tally.queued) = (0, 0);
        self.orders.push(Order::Tell(match state {
            RunState::Done if tally.skipped > 0 => {
                format!("done; {} steps are left as they are", tally.skipped)
            }
            RunState::Done => "done".into(),
            _ => format!(
                "cancelled; {} of {} steps stay done",
                tally.done,
                tally.all()
            ),
        }));
        self.orders.push(Order::Close);
    }
}
