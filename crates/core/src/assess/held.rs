//! What other runs hold of that which a proposal would touch: the new run will wait for them, and says so beforehand.

use crate::{
    estate::Estate,
    finding::{Finding, Rule},
    plan::{Object, PlannedStep},
    run::Phase,
};
use std::collections::BTreeMap;

/// One *mind* for each open run that still has a step with a lock that clashes.
pub(super) fn waits(estate: &Estate, steps: &[PlannedStep]) -> Vec<Finding> {
    let mut ours: BTreeMap<Object, bool> = BTreeMap::new();
    for lock in steps.iter().flat_map(|s| s.step.locks()) {
        *ours.entry(lock.object).or_insert(false) |= lock.exclusive;
    }
    let holds = |run: &crate::run::Run| {
        let plan = estate.plans.get(&run.id)?;
        let open = plan.steps.iter().zip(&run.steps);
        open.filter(|(_, state)| state.phase != Phase::Done)
            .flat_map(|(planned, _)| planned.step.locks())
            .find(|theirs| {
                ours.get(&theirs.object)
                    .is_some_and(|exclusive| *exclusive || theirs.exclusive)
            })
            .map(|theirs| theirs.object)
    };
    let mut found = Vec::new();
    for run in estate.runs.values() {
        let Some(object) = holds(run) else { continue };
        let what = object.name(estate);
        let text = format!(
            "{what} is held by run-{}, “{}”; this run waits for it.",
            run.id.0, run.title
        );
        found.push(
            Finding::mind(Rule::Held, run.id.to_string(), text)
                .because(format!("begun by {}", run.by.name)),
        );
    }
    found
}
