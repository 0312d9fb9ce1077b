//! In what a plan differs from what it was: whoever loads a saved one sees it before it is kept.

use crate::{
    crossing::listed,
    estate::{Estate, RecoveryPlan, Stage, Then},
    finding::{Finding, Rule},
    ids::MachineId,
    runs::Object,
};

fn names(estate: &Estate, all: &[MachineId]) -> String {
    let names: Vec<String> = all.iter().map(|id| Object::Machine(*id).name(estate)).collect();
    listed(&names.iter().map(String::as_str).collect::<Vec<_>>())
}

fn is_or_are(n: usize) -> &'static str {
    if n == 1 { "is" } else { "are" }
}

/// Everything that is otherwise, each in a sentence.
pub(super) fn said(estate: &Estate, had: &RecoveryPlan, plan: &RecoveryPlan) -> Vec<Finding> {
    let mut all: Vec<(String, String)> = Vec::new();
    let mut say = |subject: &str, text: String| all.push((subject.to_owned(), text));
    if had.name != plan.name {
        say(&plan.name, format!("It is called {}, no longer {}.", plan.name, had.name));
    }
    if had.way != plan.way {
        say(&plan.name, format!("It leads over {}, no longer over {}.", estate.way_name(plan.way), estate.way_name(had.way)));
    }
    for stage in &plan.stages {
        match had.stages.iter().find(|s| s.name == stage.name) {
            None => say(&stage.name, format!("Stage {} is new.", stage.name)),
            Some(was) => stages(estate, was, stage, &mut say),
        }
    }
    for gone in had.stages.iter().filter(|s| plan.stages.iter().all(|n| n.name != s.name)) {
        say(&gone.name, format!("Stage {} is left out.", gone.name));
    }
    let order = |of: &RecoveryPlan, other: &RecoveryPlan| {
        let both = of.stages.iter().filter(|s| other.stages.iter().any(|o| o.name == s.name));
        both.map(|s| s.name.clone()).collect::<Vec<_>>()
    };
    if order(had, plan) != order(plan, had) {
        say(&plan.name, format!("Stages come in this order: {}.", order(plan, had).join(", ")));
    }
    if had.drills != plan.drills {
        say(&plan.name, "In a drill other networks stand for those of production.".to_owned());
    }
    let finding = |(subject, text): (String, String)| Finding::clear(Rule::Drift, subject, text).because(format!("edition {} before", had.edition));
    all.into_iter().map(finding).collect()
}

fn stages(estate: &Estate, was: &Stage, now: &Stage, say: &mut impl FnMut(&str, String)) {
    let name = &now.name;
    let only = |a: &Stage, b: &Stage| a.named.iter().filter(|id| !b.named.contains(id)).copied().collect::<Vec<_>>();
    let (new, gone) = (only(now, was), only(was, now));
    if !new.is_empty() {
        say(name, format!("{} {} in stage {name}.", names(estate, &new), is_or_are(new.len())));
    }
    if !gone.is_empty() {
        say(name, format!("{} {} no longer in stage {name} by name.", names(estate, &gone), is_or_are(gone.len())));
    }
    if new.is_empty() && gone.is_empty() && was.named != now.named {
        say(name, format!("In stage {name} machines come in another order."));
    }
    if was.who != now.who {
        let words = |s: &Stage| s.who.as_ref().map_or_else(|| "nobody by labels".to_owned(), ToString::to_string);
        say(name, format!("In stage {name} by labels: {}, no longer {}.", words(now), words(was)));
    }
    match (was.in_turn, now.in_turn) {
        (true, false) => say(name, format!("In stage {name}: no longer one after the other.")),
        (false, true) => say(name, format!("In stage {name}: one after the other.")),
        (true, true) | (false, false) => {}
    }
    if was.limit != now.limit {
        say(name, format!("In stage {name} a guest may take {}, no longer {}.", now.limit, was.limit));
    }
    if was.then != now.then {
        let words = |s: &Stage| {
            let all: Vec<String> = s.then.iter().map(|t: &Then| t.words(estate)).collect();
            if all.is_empty() { "nothing".to_owned() } else { all.join("; ") }
        };
        say(name, format!("Between stage {name} and the next: {}; before: {}.", words(now), words(was)));
    }
}
