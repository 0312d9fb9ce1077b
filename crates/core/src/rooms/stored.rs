//! What the journal keeps: a row for each entity, run, plan, and step of a run that was touched.

use super::{Change, Plan, World};
use crate::{
    estate::{Fact, Kind, Touched, UpgradeError},
    ids::{Revision, RunId},
    runs::{Phase, Run, StepState},
};
use serde_json::Value;
use std::sync::Arc;

/// Steps of a run are numbered below this; the number of a step's row is that of its run with its own behind it.
pub const STEPS: u64 = 1 << 20;

/// A row as it is written. No body: it is gone.
#[derive(Debug, Clone, PartialEq)]
pub struct FactRow {
    pub kind: &'static str,
    pub id: u64,
    pub version: i32,
    /// False for what a running process no longer needs: a closed run, its plan and steps.
    pub live: bool,
    /// Whether earlier states are kept. A run's are told by its events, and would be large.
    pub keeps_history: bool,
    pub body: Option<Value>,
}

/// A row as it was read.
#[derive(Debug, Clone, PartialEq)]
pub enum Record {
    Entity(Fact),
    Plan(Arc<Plan>),
    Run(Arc<Run>),
    Step(RunId, usize, Box<StepState>),
}

impl Record {
    /// In which version runs, plans and steps are written now. 1 had all steps inside their run, and no rooms.
    pub const RUNS: i32 = 2;

    /// # Errors
    /// [`UpgradeError`] when the kind, version or body is not one that this version knows.
    pub fn read(kind: &str, id: u64, version: i32, body: Value) -> Result<Record, UpgradeError> {
        let word = match kind {
            "plan" => "plan",
            "run" => "run",
            "step" => "step",
            entity => return Fact::read(entity, id, version, body).map(Record::Entity),
        };
        if version > Self::RUNS {
            return Err(UpgradeError::Newer {
                kind: word,
                id,
                version,
                known: Self::RUNS,
            });
        }
        let wrong = |source| UpgradeError::Body {
            kind: word,
            id,
            source,
        };
        Ok(match word {
            "plan" => Record::Plan(Arc::new(serde_json::from_value(body).map_err(wrong)?)),
            "run" => Record::Run(Arc::new(serde_json::from_value(body).map_err(wrong)?)),
            _ => {
                let step = usize::try_from(id % STEPS).unwrap_or(0);
                let state = serde_json::from_value(body).map_err(wrong)?;
                Record::Step(RunId(id / STEPS), step, Box::new(state))
            }
        })
    }
}

impl Record {
    /// The row of a run, a plan or a step; `live` as long as the run is open.
    ///
    /// # Errors
    /// Never for what this crate made; the error is serde's.
    pub fn row(&self, live: bool) -> Result<FactRow, serde_json::Error> {
        let (kind, id, version, body) = match self {
            Record::Entity(fact) => (fact.kind().word(), fact.id(), Fact::VERSION, fact.body()?),
            Record::Plan(plan) => ("plan", plan.run.0, Self::RUNS, serde_json::to_value(plan)?),
            Record::Run(run) => ("run", run.id.0, Self::RUNS, serde_json::to_value(run)?),
            Record::Step(run, step, state) => {
                let id = run.0 * STEPS + *step as u64;
                ("step", id, Self::RUNS, serde_json::to_value(state)?)
            }
        };
        Ok(FactRow {
            kind,
            id,
            version,
            live,
            keeps_history: matches!(self, Record::Entity(f) if f.kind().keeps_history()),
            body: Some(body),
        })
    }
}

impl Change {
    /// What has to be written.
    ///
    /// # Errors
    /// Never for what this crate made; the error is serde's.
    pub fn rows(&self) -> Result<Vec<FactRow>, serde_json::Error> {
        let mut rows = Vec::new();
        for ((kind, id), touched) in &self.estate.touched {
            rows.push(match touched {
                Touched::Put(fact) => Record::Entity(fact.clone()).row(true)?,
                Touched::Gone => gone(*kind, *id),
            });
        }
        let open = |run: &RunId| self.runs.get(run).is_none_or(|r| r.state.open());
        for (id, plan) in &self.plans {
            rows.push(Record::Plan(plan.clone()).row(open(id))?);
        }
        for (id, run) in &self.runs {
            rows.push(Record::Run(run.clone()).row(open(id))?);
        }
        for ((run, step), state) in &self.steps {
            let record = Record::Step(*run, *step, Box::new(state.clone()));
            rows.push(record.row(open(run))?);
        }
        Ok(rows)
    }

    /// The runs that are over now: nothing of them is needed in memory.
    pub fn closed(&self) -> impl Iterator<Item = RunId> + '_ {
        let over = self.runs.values().filter(|r| !r.state.open());
        over.map(|r| r.id)
    }

    /// Takes in a row that another process wrote.
    pub fn take(&mut self, record: Record) {
        match record {
            Record::Entity(fact) => {
                let key = (fact.kind(), fact.id());
                self.estate.touched.insert(key, Touched::Put(fact));
            }
            Record::Plan(plan) => drop(self.plans.insert(plan.run, plan)),
            Record::Run(run) => drop(self.runs.insert(run.id, run)),
            Record::Step(run, step, state) => drop(self.steps.insert((run, step), *state)),
        }
    }
}

fn gone(kind: Kind, id: u64) -> FactRow {
    FactRow {
        kind: kind.word(),
        id,
        version: Fact::VERSION,
        live: true,
        keeps_history: kind.keeps_history(),
        body: None,
    }
}

impl World {
    /// Builds everything from its current rows; the order does not matter.
    pub fn from_records(revision: Revision, records: impl IntoIterator<Item = Record>) -> Self {
        let mut change = Change::default();
        records.into_iter().for_each(|r| change.take(r));
        let mut world = World::default();
        world.apply(change);
        world.estate.revision = revision;
        world
    }
}

/// A run with its steps as they were stored. Of one that is over those without a row were never touched: skipped.
pub fn closed_run(mut run: Run, steps: impl IntoIterator<Item = (usize, StepState)>) -> Run {
    let tally = run.tally;
    run.untouched();
    if !run.state.open() {
        for n in 0..tally.all() {
            let phase = Phase::Skipped;
            run.set(
                n,
                StepState {
                    phase,
                    ..StepState::waiting()
                },
            );
        }
    }
    for (n, state) in steps {
        run.set(n, state);
    }
    run
}
