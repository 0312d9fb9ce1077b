//! A plan as a drill: all copies first, then stage by stage what the plan says, then nothing of it stays but its report.

use super::{
    Draft, Drill, Event, Step,
    copies::{self, Apart, Made, Making, Planned},
};
use crate::{
    crossing::{ADDRESSES, Ahead, Bound, Crossing, DRILLS, PROOFS},
    estate::{Arrived, Between, Passage, PassageKind, Passed, RecoveryPlan, Then},
    finding::{Finding, Rule, Severity},
    ids::{MachineId, PassageId},
    limits,
    moment::Span,
    rooms::passages::{self, Of},
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

struct Marks {
    next: u64,
}

impl Marks {
    fn one(&mut self) -> u64 {
        self.next += 1;
        self.next
    }
}

fn stages(draft: &mut Draft<'_>, ask: &Drill, (plan, crossing): (&Arc<RecoveryPlan>, &Crossing), mut making: Making<'_>) {
    let of = Of { plan: plan.id, passage: PassageId(draft.number()) };
    let title = std::mem::take(&mut draft.title);
    // All copies first: a stage takes what its machines take to come up.
    let made: Vec<Vec<Made>> = crossing.stages.iter().enumerate().map(|(n, ahead)| making.all(draft, &ahead.machines, n)).collect();
    let mut marks = Marks { next: 0 };
    let mut passed = Vec::new();
    let mut all: Vec<Planned> = Vec::new();
    let mut gate: Vec<usize> = Vec::new();
    let last_stage = plan.stages.len().saturating_sub(1);
    for (n, ((stage, ahead), made)) in plan.stages.iter().zip(&crossing.stages).zip(made).enumerate() {
        let after: Vec<usize> = gate.iter().copied().chain(made.iter().map(|m| m.copied)).collect();
        let open = Step::Passage(passages::Step::Open { of, stage: n });
        let open = draft.step(open, format!("Stage {} begins", stage.name), &after, None);
        let own = booted(draft, made, stage.in_turn, open);
        let mut last: Vec<usize> = own.iter().map(|p| p.asked).collect();
        if last.is_empty() {
            last.push(open);
        }
        let copies: Vec<(MachineId, String)> = own.iter().map(|p| (p.machine, p.name.clone())).collect();
        all.extend(own);
        let mut then = Vec::new();
        for what in &stage.then {
            let mark = marks.one();
            let (step, words) = between(draft, (what, stage.limit), (of, mark), &all, &last);
            last = step.map_or(last, |step| vec![step]);
            then.push(words);
        }
        if ask.looked_at && n == last_stage {
            let mark = marks.one();
            let text = "the copies were looked at and may go";
            last = vec![heard(draft, (of, mark), text, &last)];
            then.push(expects(mark, text.to_owned(), true));
        }
        let close = Step::Passage(passages::Step::Close { of, stage: n, copies });
        gate = vec![draft.step(close, format!("Stage {} is over", stage.name), &last, None)];
        passed.push(expected(ahead, then));
    }
    let gone = copies::gone(draft, &all, &gate);
    let end = Step::Passage(passages::Step::End { of });
    draft.step(end, "Write the report".into(), &gone, None);
    draft.title = title;
    begins(draft, plan, (of, passed));
}

/// What is known of it from the beginning.
fn begins(draft: &mut Draft<'_>, plan: &RecoveryPlan, (of, stages): (Of, Vec<Passed>)) {
    let passage = Passage {
        id: of.passage,
        plan: plan.id,
        name: plan.name.clone(),
        edition: plan.edition,
        way: draft.estate().way_name(plan.way),
        kind: PassageKind::Drill,
        run: draft.run(),
        began: draft.now,
        ended: None,
        left: false,
        stages,
    };
    draft.intend(Event::Passage(passages::Event::Began(Box::new(passage))));
}

/// The copies of a stage are powered on and asked: all at once, or each once the one before has answered.
fn booted(draft: &mut Draft<'_>, made: Vec<Made>, in_turn: bool, open: usize) -> Vec<Planned> {
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

/// What lies between two stages, before it has come that far.
fn expects(mark: u64, words: String, asks: bool) -> Between {
    Between { mark, words, asks, began: None, ended: None, good: None, said: String::new(), answer: None }
}

/// What lies between a stage and the next; answers its last step, and none where it can't be tried: then it is kept as what was not.
fn between(draft: &mut Draft<'_>, (what, limit): (&Then, Span), (of, mark): (Of, u64), up: &[Planned], after: &[usize]) -> (Option<usize>, Between) {
    let words = what.words(draft.estate());
    let kept = match what {
        Then::Confirm { text } => expects(mark, text.clone(), true),
        Then::Pause { .. } | Then::Run { .. } => expects(mark, words.clone(), false),
    };
    let step = |step| Step::Passage(step);
    let last = match what {
        Then::Confirm { text } => Some(heard(draft, (of, mark), text, after)),
        Then::Pause { time } => Some(draft.step(step(passages::Step::Pause { of, mark, time: *time }), format!("Wait {time}"), after, None)),
        Then::Run { machine, command } => match up.iter().find(|p| p.machine == *machine) {
            Some(copy) => {
                let run = passages::Step::Command { of, mark, machine: copy.copy, host: copy.host, command: command.clone(), limit };
                Some(draft.step(step(run), format!("In {}: {command}", copy.name), &[after, &[copy.start]].concat(), None))
            }
            None => {
                let text = format!("Nothing of it can be booted, so this is not tried: {words}.");
                draft.found(Finding::mind(Rule::Guest, "drill", text));
                None
            }
        },
    };
    (last, kept)
}

fn heard(draft: &mut Draft<'_>, (of, mark): (Of, u64), text: &str, after: &[usize]) -> usize {
    let ask = Step::Passage(passages::Step::Ask { of, mark });
    let ask = draft.step(ask, format!("Ask a person: {text}"), after, None);
    let hear = Step::Passage(passages::Step::Hear { of, mark });
    draft.step(hear, format!("Somebody has answered: {text}"), &[ask], None)
}

/// A stage as it is foretold.
fn expected(ahead: &Ahead, then: Vec<Between>) -> Passed {
    let machines = ahead.machines.iter().filter_map(|b| {
        let (point, taken) = b.point?;
        Some(Arrived {
            machine: b.machine.id,
            name: b.machine.name.clone(),
            point,
            taken,
            host: String::new(),
            booted: None,
            good: None,
            said: String::new(),
        })
    });
    Passed {
        name: ahead.name.clone(),
        foretold: Span(ahead.to.0.saturating_sub(ahead.from.0)),
        began: None,
        ended: None,
        machines: machines.collect(),
        left_out: ahead.machines.iter().filter(|b| b.point.is_none()).map(|b| b.machine.name.clone()).collect(),
        then,
    }
}
