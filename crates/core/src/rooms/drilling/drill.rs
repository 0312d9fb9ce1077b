//! A plan as a drill: all copies first, then stage by stage what the plan says, then nothing of it stays but its report.

use super::{
    Draft, Drill, Event, Step,
    copies::{self, Apart, Made, Making},
};
use crate::{
    crossing::{ADDRESSES, Ahead, Bound, Crossing, DRILLS, PROOFS},
    estate::{Between, PassageKind, Passed, RecoveryPlan},
    finding::{Finding, Rule, Severity},
    ids::{MachineId, PassageId},
    limits,
    rooms::passages::{self, Laid, Marks, Of, Up, expects},
};
use std::{collections::BTreeMap, sync::Arc};

pub(super) fn drill(draft: &mut Draft<'_>, ask: &Drill) {
    "Drill a recovery plan".clone_into(&mut draft.title);
    let Some(plan) = draft.estate().plans.get(&ask.plan).cloned() else {
        return draft.found(Finding::stop(Rule::Exists, "plan", "The plan is gone.").at("plan"));
    };
    draft.title = format!("Drill {}", plan.name);
    if draft.estate().passage_open(plan.id).is_some() {
        let stop = Finding::stop(Rule::State, &plan.name, "It is being carried out already.").at("plan");
        return draft.found(stop.remedy("Wait until that is over, or stop it."));
    }
    let crossing = Crossing::of(draft.view, &plan, draft.now);
    let bound: Vec<&Bound> = crossing.machines().filter(|b| b.point.is_some() && b.replica.is_some()).collect();
    said(draft, &crossing, bound.len());
    let Some(road) = draft.estate().road(plan.way) else { return };
    if bound.is_empty() {
        return draft.found(Finding::stop(Rule::Nothing, &plan.name, "Nothing of it could be booted.").at("plan"));
    }
    let clusters = copies::clusters(&bound);
    let apart = Apart::of(draft.estate(), &plan, (&clusters, road));
    apart.told(draft, road, &bound);
    let there: Vec<_> = clusters.iter().filter_map(|id| draft.estate().clusters.get(id)).collect();
    copies::bytes(draft, &bound, &there);
    let making = Making {
        apart,
        plan: &plan,
        estate: (*draft.view.estate).clone(),
        copying: BTreeMap::new(),
        note: format!("It is there for a drill of {}, and goes by itself.", plan.name),
    };
    stages(draft, ask, (&plan, &crossing), making);
}

/// What is found of the plan. What would stop it if it had to be carried out is found out by a drill too: it stops nothing that can
/// be drilled without it.
fn said(draft: &mut Draft<'_>, crossing: &Crossing, able: usize) {
    let left = crossing.machines().count() - able;
    for finding in &crossing.findings {
        let drills = finding.field.as_deref() == Some("drills");
        let softened = match finding.stops() && !drills && able > 0 {
            true => Finding { severity: Severity::Mind, ..finding.clone() },
            false => finding.clone(),
        };
        if ![PROOFS, ADDRESSES, DRILLS].contains(&finding.subject.as_str()) {
            draft.found(softened);
        }
    }
    if left > 0 {
        let text = format!("{left} machines of the plan are left out, as nothing of them can be booted there.");
        draft.found(Finding::mind(Rule::Content, "drill", text));
    }
    if let Err(words) = limits::DRILLED.check(able) {
        draft.found(Finding::stop(Rule::Count, "drill", words).at("plan"));
    }
}

fn stages(draft: &mut Draft<'_>, ask: &Drill, (plan, crossing): (&Arc<RecoveryPlan>, &Crossing), mut making: Making<'_>) {
    let of = Of { plan: plan.id, passage: PassageId(draft.number()) };
    let laid = Laid { of, our: Step::Passage };
    let title = std::mem::take(&mut draft.title);
    // All copies first: a stage takes what its machines take to come up.
    let made: Vec<Vec<Made>> = crossing.stages.iter().enumerate().map(|(n, ahead)| making.all(draft, &ahead.machines, n)).collect();
    let mut marks = Marks::default();
    let mut passed = Vec::new();
    let mut all: Vec<Up> = Vec::new();
    let mut gate: Vec<usize> = Vec::new();
    let last_stage = plan.stages.len().saturating_sub(1);
    for (n, ((stage, ahead), made)) in plan.stages.iter().zip(&crossing.stages).zip(made).enumerate() {
        let after: Vec<usize> = gate.iter().copied().chain(made.iter().map(|m| m.copied)).collect();
        let open = (passages::Step::Open { of, stage: n }, format!("Stage {} begins", stage.name));
        let open = laid.step(draft, open, &after);
        let own = booted(draft, made, stage.in_turn, open);
        let mut last: Vec<usize> = own.iter().map(|p| p.asked).collect();
        if last.is_empty() {
            last.push(open);
        }
        let copies: Vec<(MachineId, String)> = own.iter().map(|p| (p.machine, p.name.clone())).collect();
        all.extend(own);
        let mut then = Vec::new();
        for what in &stage.then {
            let (step, words) = laid.between(draft, (what, stage.limit), marks.one(), &all, &last);
            if step.is_none() {
                let text = format!("Nothing of it can be booted, so this is not tried: {}.", words.words);
                draft.found(Finding::mind(Rule::Guest, "drill", text));
            }
            last = step.map_or(last, |step| vec![step]);
            then.push(words);
        }
        if ask.looked_at && n == last_stage {
            let mark = marks.one();
            let text = "the copies were looked at and may go";
            last = vec![laid.heard(draft, mark, text, &last)];
            then.push(expects(mark, text.to_owned(), true));
        }
        let close = (passages::Step::Close { of, stage: n, copies }, format!("Stage {} is over", stage.name));
        gate = vec![laid.step(draft, close, &last)];
        passed.push(foreseen(ahead, then));
    }
    let gone = copies::gone(draft, &all, &gate);
    laid.step(draft, (passages::Step::End { of }, "Write the report".into()), &gone);
    draft.title = title;
    let began = passages::begins(draft, (plan, PassageKind::Drill), of, passed);
    draft.intend(Event::Passage(began));
}

/// The copies of a stage are powered on and asked: all at once, or each once the one before has answered.
fn booted(draft: &mut Draft<'_>, made: Vec<Made>, in_turn: bool, open: usize) -> Vec<Up> {
    let mut gate = open;
    let mut own = Vec::new();
    for one in made {
        let Some(planned) = one.booted(draft, gate) else { continue };
        if in_turn {
            gate = planned.asked;
        }
        own.push(planned);
    }
    own
}

/// A stage as it is foretold, without those of whom nothing can be booted.
fn foreseen(ahead: &Ahead, then: Vec<Between>) -> Passed {
    let able = ahead.machines.iter().filter_map(|b| Some(passages::awaited(b.machine.id, &b.machine.name, b.point?)));
    let left_out = ahead.machines.iter().filter(|b| b.point.is_none()).map(|b| b.machine.name.clone());
    passages::expected(ahead, able.collect(), left_out.collect(), then)
}
