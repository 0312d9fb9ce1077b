//! How recovery plans would go now, as pages show them: looked at again when the plan is another, else at most so often.

use super::Desk;
use std::{
    collections::BTreeMap,
    sync::{Arc, PoisonError},
};
use zastrugi_core::{
    crossing::Crossing,
    estate::{Estate, RecoveryPlan},
    ids::PlanId,
    moment::{Moment, Span},
};

/// Estates change many times a second where hosts report; how a plan would go does not.
const FRESH: Span = Span::secs(10);

/// What was found of one plan, and of which estate and moment that is.
pub(crate) struct Seen {
    plan: Arc<RecoveryPlan>,
    estate: Arc<Estate>,
    at: Moment,
    found: Arc<Crossing>,
}

pub(crate) type Crossings = BTreeMap<PlanId, Seen>;

impl Desk {
    /// A plan and how it would go. None: there is no such plan.
    pub fn crossing(&self, id: PlanId) -> Option<(Arc<RecoveryPlan>, Arc<Crossing>)> {
        let (view, now) = (self.look(), self.now());
        let plan = view.estate.plans.get(&id)?.clone();
        let kept = self
            .crossings
            .lock()
            .unwrap_or_else(PoisonError::into_inner);
        if let Some(seen) = kept.get(&id) {
            let same = Arc::ptr_eq(&seen.plan, &plan);
            let reports = view.estate.passages.ptr_eq(&seen.estate.passages);
            let fresh = Arc::ptr_eq(&seen.estate, &view.estate) || now.since(seen.at) < FRESH;
            if same && reports && fresh && now >= seen.at {
                return Some((plan, seen.found.clone()));
            }
        }
        drop(kept);
        self.crossing_now(id)
    }

    /// The same as it is this moment. Others who ask meanwhile compute it too: nobody waits for a plan that is none of theirs.
    pub fn crossing_now(&self, id: PlanId) -> Option<(Arc<RecoveryPlan>, Arc<Crossing>)> {
        let (view, now) = (self.look(), self.now());
        let plan = view.estate.plans.get(&id)?.clone();
        let found = Arc::new(Crossing::of(&view, &plan, now));
        let seen = Seen {
            plan: plan.clone(),
            estate: view.estate.clone(),
            at: now,
            found: found.clone(),
        };
        let mut kept = self
            .crossings
            .lock()
            .unwrap_or_else(PoisonError::into_inner);
        kept.retain(|id, _| view.estate.plans.contains_key(id));
        kept.insert(id, seen);
        drop(kept);
        Some((plan, found))
    }
}
