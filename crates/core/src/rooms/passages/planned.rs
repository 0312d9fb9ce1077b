//! What a plan says beside its machines, as steps: what lies between two stages, and what is known of all of it from the beginning.

use super::{Event, Of, Step};
use crate::{
    crossing::Ahead,
    estate::{AnyPoint, Arrived, Between, Passage, PassageKind, Passed, RecoveryPlan, Then},
    ids::{HostId, MachineId},
    moment::{Moment, Span},
    road::{Draft, Work},
};

/// Each thing that lies between stages has a number of its own.
#[derive(Default)]
pub(crate) struct Marks {
    next: u64,
}

impl Marks {
    pub(crate) fn one(&mut self) -> u64 {
        self.next += 1;
        self.next
    }
}

/// A machine that is up by then, or a copy of it.
#[derive(Clone)]
pub(crate) struct Up {
    /// The original.
    pub machine: MachineId,
    /// What runs of it, and what that is called.
    pub runs: MachineId,
    pub name: String,
    pub host: HostId,
    /// The steps that power it on and ask it.
    pub start: usize,
    pub asked: usize,
}

/// How a plan is being planned: who takes in its steps.
pub(crate) struct Laid<F> {
    pub of: Of,
    pub our: F,
}

impl<F> Laid<F> {
    /// A step of it, as one of the room that plans it.
    pub(crate) fn step<S: Work>(&self, draft: &mut Draft<'_, S>, (step, title): (Step, String), after: &[usize]) -> usize
    where
        F: Fn(Step) -> S,
    {
        draft.step((self.our)(step), title, after, None)
    }

    /// Somebody is asked, and waited for: the number of the last step.
    pub(crate) fn heard<S: Work>(&self, draft: &mut Draft<'_, S>, mark: u64, text: &str, after: &[usize]) -> usize
    where
        F: Fn(Step) -> S,
    {
        let of = self.of;
        let ask = self.step(draft, (Step::Ask { of, mark }, format!("Ask a person: {text}")), after);
        self.step(draft, (Step::Hear { of, mark }, format!("Somebody has answered: {text}")), &[ask])
    }

    /// What lies between a stage and the next; its last step, and none where it can't be tried: then it is kept as what was not.
    pub(crate) fn between<S: Work>(&self, draft: &mut Draft<'_, S>, (what, limit): (&Then, Span), mark: u64, up: &[Up], after: &[usize]) -> (Option<usize>, Between)
    where
        F: Fn(Step) -> S,
    {
        let of = self.of;
        let words = what.words(draft.estate());
        match what {
            Then::Confirm { text } => (Some(self.heard(draft, mark, text, after)), expects(mark, text.clone(), true)),
            Then::Pause { time } => {
                let step = Step::Pause { of, mark, time: *time };
                (Some(self.step(draft, (step, format!("Wait {time}")), after)), expects(mark, words, false))
            }
            Then::Run { machine, command } => {
                let found = up.iter().find(|u| u.machine == *machine);
                let last = found.map(|up| {
                    let run = Step::Command { of, mark, machine: up.runs, host: up.host, command: command.clone(), limit };
                    self.step(draft, (run, format!("In {}: {command}", up.name)), &[after, &[up.start]].concat())
                });
                (last, expects(mark, words, false))
            }
        }
    }
}

/// What lies between two stages, before it has come that far.
pub(crate) fn expects(mark: u64, words: String, asks: bool) -> Between {
    Between {
        mark,
        words,
        asks,
        holds: false,
        began: None,
        ended: None,
        good: None,
        said: String::new(),
        answer: None,
    }
}

/// A machine before it has come up.
pub(crate) fn awaited(machine: MachineId, name: &str, (point, taken): (AnyPoint, Moment)) -> Arrived {
    Arrived {
        machine,
        name: name.to_owned(),
        point,
        taken,
        host: String::new(),
        booted: None,
        good: None,
        said: String::new(),
        equal: None,
    }
}

/// A stage as it is foretold, and who is left out of it.
pub(crate) fn expected(ahead: &Ahead, machines: Vec<Arrived>, left_out: Vec<String>, then: Vec<Between>) -> Passed {
    Passed {
        name: ahead.name.clone(),
        foretold: Span(ahead.to.0.saturating_sub(ahead.from.0)),
        began: None,
        ended: None,
        machines,
        left_out,
        then,
    }
}

/// What is known of it from the beginning.
pub(crate) fn begins<S: Work>(draft: &Draft<'_, S>, (plan, kind): (&RecoveryPlan, PassageKind), of: Of, stages: Vec<Passed>) -> Event {
    Event::Began(Box::new(Passage {
        id: of.passage,
        plan: plan.id,
        name: plan.name.clone(),
        edition: plan.edition,
        way: draft.estate().way_name(plan.way),
        kind,
        run: draft.run(),
        began: draft.now,
        ended: None,
        left: false,
        stages,
    }))
}
