//! A run's move beside all the others: locks, premises, records, undoing. Pure; called inside the head lock.

use super::{Input, Left, Order, Plans, Premise, RunEvent, Work, World, advance};
use crate::{
    estate::Estate,
    finding::Finding,
    ids::{Revision, RunId},
    moment::Moment,
    runs::{Fault, FaultKind, Needs, Phase, Run, StepState},
    view::View,
};
use std::{
    collections::{BTreeSet, VecDeque},
    sync::Arc,
};

/// Tells `run` something and answers everything that follows from it, also for runs that waited for it.
/// The events must be absorbed in this order.
pub fn turn<A, S>(
    view: &View,
    plans: &Plans<A, S>,
    run: RunId,
    input: Input,
    now: Moment,
) -> Vec<S::Event>
where
    A: Clone,
    S: Work,
    S::Event: From<RunEvent<A, S>>,
{
    let mut table = Table {
        view,
        fork: World {
            estate: (*view.estate).clone(),
            runs: (*view.runs).clone(),
            plans: plans.clone(),
        },
        events: Vec::new(),
        waiting: VecDeque::from([(run, input)]),
        now,
    };
    table.play();
    table.events
}

struct Table<'a, A, S: Work> {
    view: &'a View,
    fork: World<A, S>,
    events: Vec<S::Event>,
    waiting: VecDeque<(RunId, Input)>,
    now: Moment,
}

impl<A, S> Table<'_, A, S>
where
    A: Clone,
    S: Work,
    S::Event: From<RunEvent<A, S>>,
{
    /// Until nobody has anything to say; then each that was told something sees whether it is over.
    fn play(&mut self) {
        let mut told = BTreeSet::new();
        loop {
            while let Some((id, input)) = self.waiting.pop_front() {
                told.insert(id);
                self.tell(id, input);
            }
            let Some(id) = told.pop_first() else { return };
            self.tell(id, Input::Settle);
        }
    }

    fn record(&mut self, event: S::Event) {
        self.fork.absorb(&event);
        self.events.push(event);
    }
    fn record_run(&mut self, event: RunEvent<A, S>) {
        self.fork.absorb_run(&event);
        self.events.push(event.into());
    }

    fn tell(&mut self, id: RunId, input: Input) {
        let found = (self.fork.runs.get(id), self.fork.plans.get(&id));
        let (Some(before), Some(plan)) = found else {
            return;
        };
        let (plan, needs) = (plan.clone(), self.fork.runs.needs(id).cloned());
        let needs = needs.unwrap_or_default();
        let (mut run, was) = (Run::clone(before), before.state);
        let orders = advance(&mut run, &plan, &needs, input, self.now);
        for order in &orders {
            if let Order::Keep { step } = order
                && let Some(state) = run.step(*step)
            {
                self.record_run(RunEvent::Stepped {
                    run: id,
                    step: *step,
                    state: Box::new(state.clone()),
                });
            }
        }
        if orders.contains(&Order::Close) {
            self.give_back(&plan.steps, &run);
        }
        self.tell_of(&run, was != run.state, &orders);
        for order in orders {
            self.follow(id, &plan.steps, &needs, order);
        }
    }

    fn tell_of(&mut self, run: &Run, moved: bool, orders: &[Order]) {
        let told: Vec<&str> = orders
            .iter()
            .filter_map(|o| match o {
                Order::Tell(text) => Some(text.as_str()),
                _ => None,
            })
            .collect();
        if moved || !told.is_empty() {
            self.record_run(RunEvent::Moved {
                run: run.id,
                title: run.title.clone(),
                state: run.state,
                ended: run.ended,
                tally: run.tally,
                what: told.join("; "),
            });
        }
    }

    fn follow(
        &mut self,
        id: RunId,
        steps: &[super::PlannedStep<S>],
        needs: &[Needs],
        order: Order,
    ) {
        match order {
            Order::Want { step } => {
                let answer = self.grant(id, &steps[step].step, &needs[step], step);
                self.waiting.push_back((id, answer));
            }
            Order::Perform {
                step,
                attempt,
                after,
            } => match steps[step].step.record() {
                Some(event) => {
                    self.record(event);
                    let said = String::new();
                    self.waiting
                        .push_back((id, Input::Succeeded { step, said }));
                }
                None => self.record_run(RunEvent::Ordered {
                    run: id,
                    step,
                    attempt,
                    after,
                    device: device(&steps[step].step, &self.fork.estate),
                    urgency: steps[step].step.urgency(),
                    carried_at: steps[step].step.carried_at(&self.fork.estate),
                }),
            },
            Order::Freed { step } => {
                let next = self.fork.runs.next_in_line(&needs[step].locks);
                let again = next
                    .into_iter()
                    .map(|(run, step)| (run, Input::Again { step }));
                self.waiting.extend(again);
            }
            Order::Keep { .. } | Order::Tell(_) | Order::Close => {}
        }
    }

    /// All locks or none; never past somebody who has waited longer.
    fn grant(&self, id: RunId, what: &S, needs: &Needs, step: usize) -> Input {
        let own = self.fork.runs.get(id).and_then(|r| r.phase(step));
        let since = match own {
            Some(Phase::Queued { since, .. }) => since,
            _ => self.fork.estate.revision,
        };
        if let Some(behind) = self.fork.runs.in_the_way(&needs.locks, id, step, since) {
            return Input::Refused {
                step,
                behind,
                since,
            };
        }
        let view = View {
            runs: Arc::new(self.fork.runs.clone()),
            ..self.view.with(self.fork.estate.clone())
        };
        match what.premise(&view) {
            Premise::Reached(said) => Input::Reached { step, said },
            Premise::Broken(finding) => Input::Barred {
                step,
                fault: broken(*finding),
            },
            Premise::Holds => Input::Granted {
                step,
                fence: Revision(self.fork.estate.revision.0 + 1),
            },
        }
    }

    /// What was only held for steps that never happened is given back.
    fn give_back(&mut self, steps: &[super::PlannedStep<S>], run: &Run) {
        if run.tally.done == steps.len() {
            return;
        }
        let left = |s: &StepState| match &s.fault {
            Some(fault) if fault.leaves_open() => Left::Open { at: self.now },
            Some(fault) if fault.kind == FaultKind::Refused => Left::Undone {
                said: Some(fault.said.clone()),
            },
            _ => Left::Undone { said: None },
        };
        let undone: Vec<S::Event> = steps
            .iter()
            .zip(run.steps())
            .filter(|(_, s)| s.phase != Phase::Done)
            .filter_map(|(p, s)| p.step.undo(&self.fork.estate, left(s)))
            .collect();
        for event in undone {
            self.record(event);
        }
    }
}

fn device<S: Work>(step: &S, estate: &Estate) -> String {
    step.device(estate)
        .map_or_else(String::new, |d| d.to_string())
}

fn broken(finding: Finding) -> Fault {
    Fault {
        kind: FaultKind::Premise,
        said: finding.text,
        field: finding.field,
        remedy: finding
            .remedy
            .unwrap_or_else(|| "Nothing was done in this step. Retry, or cancel the run.".into()),
        open: false,
    }
}
