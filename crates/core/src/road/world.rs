//! The estate, and beside it the runs with their plans: everything that the journal holds now.

use super::{Plan, RunEvent, Tale, Work};
use crate::{
    estate::{self, Estate, Pen},
    ids::RunId,
    runs::{Needs, Run, Runs, StepState},
};
use imbl::OrdMap;
use std::{collections::BTreeMap, sync::Arc};

/// The plans of open runs.
pub type Plans<A, S> = OrdMap<RunId, Arc<Plan<A, S>>>;

#[derive(Debug, Clone)]
pub struct World<A, S> {
    pub estate: Estate,
    pub runs: Runs,
    pub plans: Plans<A, S>,
}

impl<A, S> Default for World<A, S> {
    fn default() -> Self {
        World {
            estate: Estate::default(),
            runs: Runs::default(),
            plans: OrdMap::new(),
        }
    }
}

/// What several events changed: entities, and of runs what is said of them, their plans and single steps.
#[derive(Debug, Clone)]
pub struct Change<A, S> {
    pub estate: estate::Change,
    pub runs: BTreeMap<RunId, Arc<Run>>,
    pub plans: BTreeMap<RunId, Arc<Plan<A, S>>>,
    pub steps: BTreeMap<(RunId, usize), StepState>,
}

impl<A, S> Default for Change<A, S> {
    fn default() -> Self {
        Change {
            estate: estate::Change::default(),
            runs: BTreeMap::new(),
            plans: BTreeMap::new(),
            steps: BTreeMap::new(),
        }
    }
}

impl<A, S> Change<A, S> {
    pub fn merge(&mut self, later: Self) {
        self.estate.merge(later.estate);
        self.runs.extend(later.runs);
        self.plans.extend(later.plans);
        self.steps.extend(later.steps);
    }
    pub fn is_empty(&self) -> bool {
        self.estate.is_empty()
            && self.runs.is_empty()
            && self.plans.is_empty()
            && self.steps.is_empty()
    }
}

/// What the steps of a plan take, for the index of who holds what.
pub fn needs<A, S: Work>(plan: &Plan<A, S>) -> Arc<Vec<Needs>> {
    let mut all: Vec<Needs> = plan.steps.iter().map(|p| p.step.needs()).collect();
    for (n, step) in plan.steps.iter().enumerate() {
        for before in step.after.iter().chain(&step.turn) {
            if let Some(needs) = all.get_mut(*before) {
                needs.followers.push(n);
            }
        }
    }
    Arc::new(all)
}

impl<A: Clone, S: Work> World<A, S> {
    /// Folds in what happened to something under management.
    pub fn absorb<E: Tale>(&mut self, event: &E) -> Change<A, S> {
        let mut pen = Pen::on(&mut self.estate);
        event.absorb(&mut pen);
        Change {
            estate: pen.done(),
            ..Change::default()
        }
    }

    /// Folds in what happened to a run.
    pub fn absorb_run(&mut self, event: &RunEvent<A, S>) -> Change<A, S> {
        let mut change = Change::default();
        match event {
            RunEvent::Started { run, plan } => {
                let mut pen = Pen::on(&mut self.estate);
                pen.used(run.id.0);
                change.estate = pen.done();
                let (run, plan) = (Arc::new((**run).clone()), Arc::new((**plan).clone()));
                self.runs.put(run.clone(), needs(&plan));
                self.plans.insert(run.id, plan.clone());
                change.plans.insert(run.id, plan);
                change.runs.insert(run.id, run);
            }
            RunEvent::Stepped { run, step, state } => {
                self.runs.set(*run, *step, (**state).clone());
                change.steps.insert((*run, *step), (**state).clone());
            }
            RunEvent::Moved {
                run,
                state,
                ended,
                tally,
                ..
            } => {
                let Some(held) = self.runs.get(*run) else {
                    return change;
                };
                let mut moved = Run::clone(held);
                (moved.state, moved.ended, moved.tally) = (*state, *ended, *tally);
                change.runs.insert(*run, Arc::new(moved));
                self.runs
                    .update(*run, |r| (r.state, r.ended) = (*state, *ended));
                if !state.open() {
                    self.plans.remove(run);
                }
            }
            RunEvent::Ordered { .. } => {}
        }
        change
    }

    /// Takes in what another process wrote.
    pub fn apply(&mut self, change: Change<A, S>) {
        for ((kind, id), touched) in change.estate.touched {
            match touched {
                estate::Touched::Put(fact) => self.estate.put(fact),
                estate::Touched::Gone => self.estate.remove(kind, id),
            }
        }
        self.plans.extend(change.plans);
        for (id, run) in change.runs {
            match self.plans.get(&id) {
                Some(plan) if run.state.open() && !self.runs.contains(id) => {
                    let mut fresh = Run::clone(&run);
                    fresh.untouched();
                    let needs = needs(plan);
                    self.runs.put(Arc::new(fresh), needs);
                }
                _ => self
                    .runs
                    .update(id, |r| (r.state, r.ended) = (run.state, run.ended)),
            }
            if !run.state.open() {
                self.plans.remove(&id);
            }
        }
        for ((run, step), state) in change.steps {
            self.runs.set(run, step, state);
        }
    }
}
