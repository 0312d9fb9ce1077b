//! A value that was wrong is corrected while its run waits for a person: what was done with the old one is done again, and
//! what comes after it; everything else stays as it is (rules, section 9).

use super::{Input, Plan, Plans, RunEvent, Tale, Work, turn, world::needs};
use crate::{
    estate::Pen,
    finding::Finding,
    ids::RunId,
    moment::Moment,
    runs::{Phase, Run, RunState},
    view::View,
};
use std::collections::{BTreeMap, BTreeSet};

/// A value that a step was given by the sheet of its run.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Given {
    pub field: &'static str,
    /// What stands beside its field.
    pub label: &'static str,
    pub now: String,
    /// Several steps may have been given the same on purpose.
    pub shared: bool,
}

impl Given {
    pub fn own(field: &'static str, label: &'static str, now: impl ToString) -> Self {
        Given {
            field,
            label,
            now: now.to_string(),
            shared: false,
        }
    }
    pub fn shared(field: &'static str, label: &'static str, now: impl ToString) -> Self {
        Given {
            shared: true,
            ..Given::own(field, label, now)
        }
    }
}

/// What was typed for a step, by field.
pub type Typed = BTreeMap<String, String>;

/// What a person corrects.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Correction {
    pub step: usize,
    pub typed: Typed,
    /// Also where other failed steps were given the same.
    pub everywhere: bool,
}

/// Why nothing was corrected.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Uncorrected {
    /// The run goes on already, is over, or the step was given nothing that can be corrected.
    Over,
    /// What is wrong with what was typed; each with its field.
    Wrong(Vec<Finding>),
}

/// The steps that failed and can be told something else: each with what it was given.
pub fn correctable<A, S: Work>(
    view: &View,
    plan: &Plan<A, S>,
    run: &Run,
) -> BTreeMap<usize, Vec<Given>> {
    if run.state != RunState::NeedsYou {
        return BTreeMap::new();
    }
    let failed = run.in_phase(Phase::Failed);
    let still = failed.filter(|(_, s)| s.tail.is_none());
    let given = still.filter_map(|(n, _)| Some((n, plan.steps.get(n)?.step.given(&view.estate))));
    given.filter(|(_, g)| !g.is_empty()).collect()
}

/// Corrects what a failed step was given and lets its run go on.
///
/// # Errors
/// [`Uncorrected`]; nothing was changed then.
pub fn correct<A, S>(
    view: &View,
    plans: &Plans<A, S>,
    id: RunId,
    correction: &Correction,
    now: Moment,
) -> Result<Vec<S::Event>, Uncorrected>
where
    A: Clone,
    S: Work,
    S::Event: From<RunEvent<A, S>>,
{
    let run = view.runs.get(id).ok_or(Uncorrected::Over)?;
    let plan = plans.get(&id).ok_or(Uncorrected::Over)?;
    let open = correctable(view, plan, run);
    let given = open.get(&correction.step).ok_or(Uncorrected::Over)?;
    let changed: Vec<(&Given, &String)> = given
        .iter()
        .filter_map(|g| Some((g, correction.typed.get(g.field)?)))
        .filter(|(g, typed)| g.now != typed.trim())
        .collect();
    if changed.is_empty() {
        let text = "Nothing is changed yet.";
        let first = given.first().map_or("", |g| g.field);
        let stop = Finding::stop(crate::finding::Rule::Nothing, "fields", text);
        return Err(Uncorrected::Wrong(vec![stop.at(first)]));
    }
    let mut estate = (*view.estate).clone();
    let mut events: Vec<S::Event> = Vec::new();
    for (n, theirs) in &open {
        let typed: Typed = if *n == correction.step {
            correction.typed.clone()
        } else if correction.everywhere {
            let same = |g: &&Given| g.shared && theirs.contains(g);
            let alike = changed.iter().filter(|(g, _)| same(g));
            alike
                .map(|(g, typed)| (g.field.to_owned(), (*typed).clone()))
                .collect()
        } else {
            Typed::new()
        };
        let Some(step) = plan.steps.get(*n).filter(|_| !typed.is_empty()) else {
            continue;
        };
        // One that was corrected for another step is so already.
        let then = view.with(estate.clone());
        let is_now = step.step.given(&then.estate);
        let differs = |g: &Given| typed.get(g.field).is_some_and(|t| t.trim() != g.now);
        if !is_now.iter().any(differs) {
            continue;
        }
        let event = step.step.correct(&then, now, &typed);
        let event = event.map_err(Uncorrected::Wrong)?;
        event.absorb(&mut Pen::on(&mut estate));
        events.push(event);
    }
    let steps = again(plan, run, &events);
    let then = view.with(estate);
    events.extend(turn(&then, plans, id, Input::Redo { steps }, now));
    Ok(events)
}

/// The steps that are done and rest on what was changed, with those that came after them.
fn again<A, S: Work>(plan: &Plan<A, S>, run: &Run, events: &[S::Event]) -> Vec<usize> {
    let done = |n: usize| run.phase(n) == Some(Phase::Done);
    let rests = |n: &usize| events.iter().any(|e| plan.steps[*n].step.rests_on(e));
    let mut waiting: Vec<usize> = (0..plan.steps.len())
        .filter(|n| done(*n))
        .filter(rests)
        .collect();
    let needs = needs(plan);
    let mut again = BTreeSet::new();
    while let Some(n) = waiting.pop() {
        if again.insert(n) {
            waiting.extend(needs[n].followers.iter().copied().filter(|f| done(*f)));
        }
    }
    again.into_iter().collect()
}
