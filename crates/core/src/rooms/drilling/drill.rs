//! A plan as a drill: all copies first, then stage by stage what the plan says, then nothing of it stays but its report.

use super::{
    Draft, Drill, Event, Step,
    copies::{self, Apart, Making, Planned},
};
use crate::{
    crossing::{Ahead, Bound, Crossing},
    estate::{Arrived, Between, Passage, PassageKind, Passed, RecoveryPlan, Then},
    finding::{Finding, Rule, Severity},
    ids::{MachineId, PassageId},
    limits,
    moment::Span,
    rooms::passages::{self, Of},
};
use std::{collections::BTreeMap, sync::Arc};

/// What a command may take until it ends well.
const COMMAND: Span = Span::mins(2);

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
    let apart = Apart::of(draft.estate(), &plan, &clusters);
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
        // That it was never drilled is what this is for.
        let stale = finding.subject == "drill";
        if !stale {
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
    let mut marks = Marks { next: 0 };
    let mut passed = Vec::new();
    let mut all: Vec<Planned> = Vec::new();
    let mut gate: Vec<usize> = Vec::new();
    let title = std::mem::take(&mut draft.title);
    for (n, (stage, ahead)) in plan.stages.iter().zip(&crossing.stages).enumerate() {
        let open = Step::Passage(passages::Step::Open { of, stage: n });
        let open = draft.step(open, format!("Stage {} begins", stage.name), &gate, None);
        let (own, mut last) = booted(draft, &mut making, ahead, n, open);
        if last.is_empty() {
            last.push(open);
        }
        let copies: Vec<(MachineId, String)> = own.iter().map(|p| (p.machine, p.name.clone())).collect();
        all.extend(own);
        let mut then = Vec::new();
        for what in &stage.then {
            let mark = marks.one();
            let (step, words) = between(draft, what, (of, mark), &all, &last);
            last = vec![step];
            then.push(words);
        }
        let close = Step::Passage(passages::Step::Close { of, stage: n, copies });
        gate = vec![draft.step(close, format!("Stage {} is over", stage.name), &last, None)];
        passed.push(expected(ahead, then));
    }
    if ask.looked_at {
        gate = vec![looked_at(draft, (of, marks.one()), &mut passed, &gate)];
    }
    let gone = copies::gone(draft, &all, &gate);
    let end = Step::Passage(passages::Step::End { of });
    draft.step(end, "Write the report".into(), &gone, None);
    draft.title = title;
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
        stages: passed,
    };
    draft.intend(Event::Passage(passages::Event::Began(Box::new(passage))));
}

/// The copies of a stage, and what its end waits for.
fn booted(draft: &mut Draft<'_>, making: &mut Making<'_>, ahead: &Ahead, n: usize, open: usize) -> (Vec<Planned>, Vec<usize>) {
    let in_turn = making.plan.stages[n].in_turn;
    let mut gate = vec![open];
    let mut own = Vec::new();
    for bound in &ahead.machines {
        let Some(planned) = making.one(draft, bound, n, &gate) else { continue };
        if in_turn {
            gate = vec![planned.asked];
        }
        own.push(planned);
    }
    let asked = own.iter().map(|p| p.asked).collect();
    (own, asked)
}

/// What lies between a stage and the next; answers its last step.
fn between(draft: &mut Draft<'_>, what: &Then, (of, mark): (Of, u64), up: &[Planned], after: &[usize]) -> (usize, Between) {
    let words = what.words(draft.estate());
    let kept = Between { mark, words: words.clone(), asks: matches!(what, Then::Confirm { .. }), began: None, ended: None, good: None, said: String::new() };
    let step = |step| Step::Passage(step);
    let last = match what {
        Then::Confirm { text } => heard(draft, (of, mark), text, after),
        Then::Pause { time } => draft.step(step(passages::Step::Pause { of, mark, time: *time }), format!("Wait {time}"), after, None),
        Then::Run { machine, command } => match up.iter().find(|p| p.machine == *machine) {
            Some(copy) => {
                let run = passages::Step::Command { of, mark, machine: copy.copy, host: copy.host, command: command.clone(), limit: COMMAND };
                draft.step(step(run), format!("In {}: {command}", copy.name), &[after, &[copy.start]].concat(), None)
            }
            None => {
                let text = format!("Nothing of it can be booted, so this is not tried: {words}.");
                draft.found(Finding::mind(Rule::Guest, "drill", text));
                let pause = passages::Step::Pause { of, mark, time: Span(0) };
                draft.step(step(pause), format!("Not tried: {words}"), after, None)
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

/// Before anything is removed, at the end of the last stage.
fn looked_at(draft: &mut Draft<'_>, (of, mark): (Of, u64), passed: &mut [Passed], after: &[usize]) -> usize {
    let text = "the copies were looked at and may go";
    if let Some(last) = passed.last_mut() {
        last.then.push(Between {
            mark,
            words: format!("a person confirms: {text}"),
            asks: true,
            began: None,
            ended: None,
            good: None,
            said: String::new(),
        });
    }
    heard(draft, (of, mark), text, after)
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
        then,
    }
}
