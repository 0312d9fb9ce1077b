//! What other runs hold of that which a proposal would touch: the new run will wait for them, and says so beforehand.

use super::{PlannedStep, Work};
use crate::{
    finding::{Finding, Rule},
    runs::{Lock, Object},
    view::View,
};
use std::collections::BTreeMap;

/// One *mind* for each open run that still has a step with a lock that clashes.
pub(super) fn waits<S: Work>(view: &View, steps: &[PlannedStep<S>]) -> Vec<Finding> {
    let mut ours: BTreeMap<Object, bool> = BTreeMap::new();
    for lock in steps.iter().flat_map(|s| s.step.locks()) {
        *ours.entry(lock.object).or_insert(false) |= lock.exclusive;
    }
    let ours: Vec<Lock> = ours
        .into_iter()
        .map(|(object, exclusive)| Lock { object, exclusive })
        .collect();
    let clashing = view.runs.clashing(&ours);
    let found = clashing.into_iter().filter_map(|(id, object)| {
        let run = view.runs.get(id)?;
        let what = object.name(&view.estate);
        let text = format!(
            "{what} is held by run-{}, “{}”; this run waits for it.",
            run.id.0, run.title
        );
        let mind = Finding::mind(Rule::Held, run.id.to_string(), text);
        Some(mind.because(format!("begun by {}", run.by.name)))
    });
    found.collect()
}
