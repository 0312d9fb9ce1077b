//! Open runs with an index by object: who holds it, who waits for it, who will want it.
//!
//! ```text
//! machine-7   exclusive: run-3 step 0 holds · run-5 step 1 waits since 18 204 · run-5 step 2 will want it
//! host-2      shared:    run-3 step 0 holds …
//! ```

use super::{Lock, Object, Phase, Run, StepState};
use crate::ids::{Revision, RunId};
use imbl::{OrdMap, OrdSet};
use std::{collections::BTreeSet, sync::Arc};

/// What one step of a plan takes and touches, told once when its run begins.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Needs {
    pub locks: Vec<Lock>,
    /// Touched without being taken.
    pub about: Vec<Object>,
    /// The steps that wait for it.
    pub followers: Vec<usize>,
}

/// In which order claims to an object come: who holds it, who waits for it (the longest first), who will want it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Rank {
    Held,
    Queued(Revision),
    Open,
}

impl Rank {
    /// None: the step is over.
    fn of(state: &StepState) -> Option<Rank> {
        match state.phase {
            Phase::Running => Some(Rank::Held),
            Phase::Failed if !state.tail.is_none() => Some(Rank::Held),
            Phase::Queued { since, .. } => Some(Rank::Queued(since)),
            Phase::Waiting | Phase::Failed => Some(Rank::Open),
            Phase::Done | Phase::Skipped => None,
        }
    }
}

type Claim = (Rank, RunId, usize);

#[derive(Debug, Clone, Default, PartialEq)]
struct Claims {
    exclusive: OrdSet<Claim>,
    shared: OrdSet<Claim>,
    about: OrdSet<Claim>,
}

impl Claims {
    fn of(&mut self, lock: Lock) -> &mut OrdSet<Claim> {
        if lock.exclusive {
            &mut self.exclusive
        } else {
            &mut self.shared
        }
    }
    fn is_empty(&self) -> bool {
        self.exclusive.is_empty() && self.shared.is_empty() && self.about.is_empty()
    }
}

/// The open runs. Closed ones are in the store alone.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Runs {
    open: OrdMap<RunId, Arc<Run>>,
    needs: OrdMap<RunId, Arc<Vec<Needs>>>,
    by_object: OrdMap<Object, Claims>,
}

impl Runs {
    pub fn get(&self, run: RunId) -> Option<&Arc<Run>> {
        self.open.get(&run)
    }
    pub fn needs(&self, run: RunId) -> Option<&Arc<Vec<Needs>>> {
        self.needs.get(&run)
    }
    pub fn contains(&self, run: RunId) -> bool {
        self.open.contains_key(&run)
    }
    pub fn iter(&self) -> impl DoubleEndedIterator<Item = &Arc<Run>> {
        self.open.values()
    }
    pub fn len(&self) -> usize {
        self.open.len()
    }
    pub fn is_empty(&self) -> bool {
        self.open.is_empty()
    }

    /// Takes in a run with what its steps need; a run that was there is replaced whole.
    pub fn put(&mut self, run: Arc<Run>, needs: Arc<Vec<Needs>>) {
        self.remove(run.id);
        if !run.state.open() {
            return;
        }
        for (n, (state, need)) in run.steps().zip(needs.iter()).enumerate() {
            self.index(need, Rank::of(state), run.id, n, true);
        }
        self.needs.insert(run.id, needs);
        self.open.insert(run.id, run);
    }

    /// Replaces what is said of a run as a whole; a closed one goes.
    pub fn update(&mut self, run: RunId, change: impl FnOnce(&mut Run)) {
        let Some(held) = self.open.get_mut(&run) else {
            return;
        };
        change(Arc::make_mut(held));
        if !held.state.open() {
            self.remove(run);
        }
    }

    /// Replaces the state of one step, and its place in the index.
    pub fn set(&mut self, run: RunId, n: usize, state: StepState) {
        let Some(was) = self.open.get(&run).and_then(|r| r.step(n)).map(Rank::of) else {
            return;
        };
        if let Some(need) = self
            .needs
            .get(&run)
            .cloned()
            .as_ref()
            .and_then(|all| all.get(n))
        {
            let (before, after) = (was, Rank::of(&state));
            if before != after {
                self.index(need, before, run, n, false);
                self.index(need, after, run, n, true);
            }
        }
        if let Some(held) = self.open.get_mut(&run) {
            Arc::make_mut(held).set(n, state);
        }
    }

    pub fn remove(&mut self, run: RunId) {
        let (Some(gone), Some(needs)) = (self.open.remove(&run), self.needs.remove(&run)) else {
            return;
        };
        for (n, (state, need)) in gone.steps().zip(needs.iter()).enumerate() {
            self.index(need, Rank::of(state), run, n, false);
        }
    }

    fn index(&mut self, need: &Needs, rank: Option<Rank>, run: RunId, n: usize, put: bool) {
        let Some(rank) = rank else { return };
        let claim = (rank, run, n);
        let change = |set: &mut OrdSet<Claim>| {
            if put {
                set.insert(claim);
            } else {
                set.remove(&claim);
            }
        };
        for lock in &need.locks {
            let claims = self.by_object.entry(lock.object).or_default();
            change(claims.of(*lock));
            self.tidy(lock.object);
        }
        for object in &need.about {
            change(&mut self.by_object.entry(*object).or_default().about);
            self.tidy(*object);
        }
    }

    fn tidy(&mut self, object: Object) {
        if self.by_object.get(&object).is_some_and(Claims::is_empty) {
            self.by_object.remove(&object);
        }
    }

    /// Who stands in the way of these locks for this step: a holder, or somebody who has waited longer.
    /// `since`: from when the step waits, or now.
    pub fn in_the_way(
        &self,
        locks: &[Lock],
        run: RunId,
        n: usize,
        since: Revision,
    ) -> Option<RunId> {
        let mine = (Rank::Queued(since), run, n);
        let ahead = |set: &OrdSet<Claim>| {
            let mut others = set.iter().filter(|(_, r, s)| (*r, *s) != (run, n));
            others
                .next()
                .filter(|first| **first < mine)
                .map(|first| first.1)
        };
        locks.iter().find_map(|lock| {
            let claims = self.by_object.get(&lock.object)?;
            ahead(&claims.exclusive).or_else(|| ahead(&claims.shared).filter(|_| lock.exclusive))
        })
    }

    /// Steps that may go on once these locks are given back: who has waited longest to have the object alone, and if it
    /// was held alone, everybody before that one.
    pub fn next_in_line(&self, freed: &[Lock]) -> Vec<(RunId, usize)> {
        let mut next = BTreeSet::new();
        for lock in freed {
            let Some(claims) = self.by_object.get(&lock.object) else {
                continue;
            };
            let first = waiting(&claims.exclusive).next();
            next.extend(first);
            if lock.exclusive {
                next.extend(waiting(&claims.shared).take_while(|c| first.is_none_or(|f| *c < f)));
            }
        }
        next.into_iter().map(|(_, run, n)| (run, n)).collect()
    }

    /// Runs that hold one of these or will want it in a way that clashes, with what they have of it.
    pub fn clashing(&self, locks: &[Lock]) -> Vec<(RunId, Object)> {
        let mut found: Vec<(RunId, Object)> = Vec::new();
        for lock in locks {
            let Some(claims) = self.by_object.get(&lock.object) else {
                continue;
            };
            let shared = claims.shared.iter().filter(|_| lock.exclusive);
            for (_, run, _) in claims.exclusive.iter().chain(shared) {
                if !found.iter().any(|(r, _)| r == run) {
                    found.push((*run, lock.object));
                }
            }
        }
        found.sort_unstable();
        found
    }

    /// Whether a step that is under way holds this for itself.
    pub fn holds(&self, object: Object) -> bool {
        let claims = self.by_object.get(&object);
        claims
            .and_then(|c| c.exclusive.get_min())
            .is_some_and(|c| c.0 == Rank::Held)
    }
    /// The steps that have taken this, alone or with others.
    pub fn holders(&self, object: Object) -> Vec<(RunId, usize)> {
        let claims = self.by_object.get(&object).into_iter();
        let all = claims.flat_map(|c| c.exclusive.iter().chain(&c.shared));
        all.filter(|c| c.0 == Rank::Held)
            .map(|c| (c.1, c.2))
            .collect()
    }
    /// Whether a step that isn't over changes this.
    pub fn will_change(&self, object: Object) -> bool {
        self.by_object
            .get(&object)
            .is_some_and(|c| !c.exclusive.is_empty())
    }
    /// Open steps that look at this without taking it, as one that awaits something.
    pub fn looking_at(&self, object: Object) -> impl Iterator<Item = (RunId, usize)> + '_ {
        let claims = self.by_object.get(&object).into_iter();
        claims.flat_map(|c| &c.about).map(|c| (c.1, c.2))
    }
    /// The runs whose open steps have to do with this, lowest number first.
    pub fn about(&self, object: Object) -> BTreeSet<RunId> {
        let claims = self.by_object.get(&object).into_iter();
        claims
            .flat_map(|c| c.exclusive.iter().chain(&c.shared).chain(&c.about))
            .map(|c| c.1)
            .collect()
    }
}

/// Those who wait, the longest first.
fn waiting(set: &OrdSet<Claim>) -> impl Iterator<Item = Claim> + '_ {
    let from: Claim = (Rank::Queued(Revision(0)), RunId(0), 0);
    set.range(from..)
        .take_while(|c| matches!(c.0, Rank::Queued(_)))
        .copied()
}
