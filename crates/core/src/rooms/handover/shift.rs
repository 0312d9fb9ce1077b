//! A planned move: machines are brought up to date while they run, stopped, brought over to the last byte, compared, and go on at the
//! other site; what they were is their replicas, and the plan leads back.

use super::{
    Draft, Event, Shift, Step, arrive,
    arrive::{Arriving, Staging},
    bring::{self, Held},
    member::{self, Goes},
    promised,
};
use crate::{
    copying::Line,
    crossing::{Crossing, DRILLS},
    estate::{PassageKind, Passed, RecoveryPlan, Road},
    finding::{Finding, Rule},
    ids::PassageId,
    limits,
    moment::Span,
    pairing,
    rooms::{
        carrying,
        passages::{self, Laid, Marks, Of},
    },
    units::Bytes,
};
use std::sync::Arc;
use uuid::Uuid;

/// Nobody gives guests less, or more.
const LEAST: Span = Span::secs(10);
const MOST: Span = Span::mins(120);

pub(super) fn shift(draft: &mut Draft<'_>, ask: &Shift) {
    "Move a recovery plan".clone_into(&mut draft.title);
    let Some(plan) = draft.estate().plans.get(&ask.plan).cloned() else {
        return draft.found(Finding::stop(Rule::Exists, "plan", "The plan is gone.").at("plan"));
    };
    let crossing = Crossing::of(draft.view, &plan, draft.now);
    let Some(road) = draft.estate().road(plan.way) else {
        return draft.found_all(crossing.findings);
    };
    let title = format!("Move {} to {}", plan.name, road.to.site_name(draft.estate()));
    draft.title.clone_from(&title);
    may(draft, &plan, ask);
    draft.found_all(crossing.findings.iter().filter(|f| said(f)).cloned());
    draft.found_all(carries(draft, road));
    let all = member::all(draft, &plan, &crossing, road);
    if all.is_empty() {
        return;
    }
    if let Err(words) = limits::DRILLED.check(all.len()) {
        draft.found(Finding::stop(Rule::Count, "plan", words).at("plan"));
    }
    laid(draft, (&plan, &crossing, ask), &all, road);
    draft.title = title;
}

/// What concerns nothing but drills is left out.
pub(super) fn said(finding: &Finding) -> bool {
    finding.subject != DRILLS && finding.field.as_deref() != Some("drills")
}

/// Nobody carries it out now.
pub(super) fn is_free(draft: &mut Draft<'_>, plan: &RecoveryPlan) {
    if draft.estate().passage_open(plan.id).is_some() {
        let stop = Finding::stop(Rule::State, &plan.name, "It is being carried out already.").at("plan");
        draft.found(stop.remedy("Wait until that is over, or stop it."));
    }
}

fn may(draft: &mut Draft<'_>, plan: &RecoveryPlan, ask: &Shift) {
    let name = &plan.name;
    is_free(draft, plan);
    if ask.grace < LEAST || ask.grace > MOST {
        draft.found(Finding::stop(Rule::State, "grace", format!("Between {LEAST} and {MOST}.")).at("grace"));
    }
    if ask.typed.trim() != name {
        draft.found(Finding::stop(Rule::Name, "confirmation", format!("Type the plan's name to confirm: {name}.")).at("typed"));
    }
}

/// Nothing is stopped here that could not get there.
fn carries(draft: &Draft<'_>, road: Road<'_>) -> Option<Finding> {
    let trouble = pairing::trouble(draft.view, road.pair, draft.now).filter(Finding::stops)?;
    let name = &road.pair.name;
    let text = format!("{name} does not carry as it should: {}", trouble.text);
    Some(Finding::stop(trouble.rule, name, text).because(trouble.evidence).remedy("Mend the pair first. Nothing is stopped before."))
}

fn laid(draft: &mut Draft<'_>, (plan, crossing, ask): (&Arc<RecoveryPlan>, &Crossing, &Shift), all: &[Goes], road: Road<'_>) {
    let of = Of { plan: plan.id, passage: PassageId(draft.number()) };
    let our: fn(passages::Step) -> Step = Step::Passage;
    let laid = Laid { of, our };
    let then = arrive::afterwards(draft, &all.iter().map(|g| arriving(draft, g, None)).collect::<Vec<_>>(), road);
    let hosts = arrive::placed(draft, &all.iter().map(|g| arriving(draft, g, None)).collect::<Vec<_>>(), &then, |f| f);
    let site = road.to.site_name(draft.estate());
    draft.found_all(promised::broken(draft.view, &then, all, (&site, draft.now)));
    let (bytes, meanwhile) = goes_over(draft, all, road);
    let times = told(draft, all, road, (bytes, meanwhile.iter().copied().sum()));

    let open = laid.step(draft, (passages::Step::Open { of, stage: 0 }, "Bring all up to date".into()), &[]);
    let (marks, last) = bring::before(draft, all, road, open);
    let close = laid.step(draft, close(of, 0), &last);
    let open = laid.step(draft, (passages::Step::Open { of, stage: 1 }, "Stop, and bring the rest".into()), &[close]);
    let off = bring::stopped(draft, all, (ask.grace, ask.then), &[open]);
    let held = bring::rest(draft, all, road, (&meanwhile, &off));
    let over: Vec<(&Goes, Held, Option<Uuid>)> = all.iter().zip(held).zip(marks).filter_map(|((g, h), m)| Some((g, h?, m))).collect();
    let there: Vec<Arriving> = over.iter().map(|(g, h, _)| arriving(draft, g, Some(*h))).collect();
    let crossed = arrive::over(draft, &there, road, (&[], false));
    let mut gate = laid.step(draft, close_at(of, 1), &[crossed]);

    let mut passed = before_stages(&site, measured(draft, plan, times));
    let mut staging = Staging { plan, crossing, laid, first: passed.len(), hosts: &hosts, marks: Marks::default(), up: vec![] };
    for n in 0..plan.stages.len() {
        let (closed, stage) = staging.stage(draft, n, &there, &[gate]);
        gate = closed;
        passed.push(stage);
    }
    let laid = staging.laid;
    let turn = passages::Step::Turn { of, from: road.to.site };
    let turn = laid.step(draft, (turn, "The plan leads back".into()), &[gate]);
    let mut last = vec![turn];
    let named: Vec<usize> = there.iter().zip(&over).map(|(a, (_, held, _))| arrive::left_behind(draft, (&a.machine, a.replica.id, &a.behind), held.via, &[turn])).collect();
    last.extend(named);
    last.extend(bring::released(draft, &over, &last));
    laid.step(draft, (passages::Step::End { of }, "Write the report".into()), &last);
    let began = passages::begins(draft, (plan, PassageKind::Move), of, passed);
    draft.intend(Event::Passage(began));
}

/// As it goes on there, once the last of it is held.
fn arriving(draft: &Draft<'_>, goes: &Goes, held: Option<Held>) -> Arriving {
    Arriving {
        stage: goes.stage,
        machine: goes.machine.clone(),
        replica: goes.replica.clone(),
        behind: goes.behind.clone(),
        point: held.map_or(Uuid::nil(), |h| h.snapshot),
        taken: draft.now,
        starts: goes.was_on(),
        via: goes.once.to(),
        ready: held.map(|h| h.equal),
    }
}

fn close(of: Of, stage: usize) -> (passages::Step, String) {
    (passages::Step::Close { of, stage, copies: vec![] }, "All are up to date".into())
}

fn close_at(of: Of, stage: usize) -> (passages::Step, String) {
    (passages::Step::Close { of, stage, copies: vec![] }, "Everything is there".into())
}

/// What goes over while they run, and of each what it writes meanwhile, at most.
fn goes_over(draft: &Draft<'_>, all: &[Goes], road: Road<'_>) -> (Bytes, Vec<Bytes>) {
    let line = Line::over(draft.estate(), road);
    let first: Bytes = all.iter().filter(|g| g.was_on()).map(|g| g.once.bytes).sum();
    let long = line.time(first).plus(Span::mins(1));
    let each = all.iter().map(|g| match g.was_on() {
        true => carrying::changed(draft, &g.machine, long).unwrap_or(g.once.bytes).min(g.once.bytes.max(Bytes::mib(1))),
        false => g.once.bytes,
    });
    (first, each.collect())
}

/// How long machines take to stop, where nothing is known of it.
const STOPS: (&str, Span) = ("wait until it is off", Span::secs(8));

/// How long it takes until all are up to date, and then until everything is there.
fn told(draft: &mut Draft<'_>, all: &[Goes], road: Road<'_>, (first, rest): (Bytes, Bytes)) -> (Span, Span) {
    let line = Line::over(draft.estate(), road);
    let site = road.to.site_name(draft.estate());
    let on = all.iter().filter(|g| g.was_on()).count();
    let stages: std::collections::BTreeSet<usize> = all.iter().filter(|g| g.was_on()).map(|g| g.stage).collect();
    let stops = draft.view.pace.expect(STOPS.0, STOPS.1);
    let stop = Span(stops.0.saturating_mul(u64::try_from(stages.len()).unwrap_or(u64::MAX)));
    if on > 0 {
        let text = format!("{on} machines are brought up to date while they run: {first} at most go over.");
        draft.found(Finding::clear(Rule::Content, "machines", text).because(line.because(first)));
        let text = format!("Then they stop, the last stage first, and what they wrote meanwhile goes over: {rest} at most. Nothing is lost: nothing starts at {site} before both sides say that they hold the same.");
        draft.found(Finding::clear(Rule::Content, "machines", text).because(line.because(rest)));
    }
    let text = format!("Once they are there, what is left of them here is their replicas: what they write at {site} comes back by their jobs, only what changed.");
    draft.found(Finding::clear(Rule::Content, "machines", text));
    (line.time(first), stop.plus(line.time(rest)))
}

/// As long as it took when the plan was moved last; else as it was computed, which is at most.
fn measured(draft: &Draft<'_>, plan: &RecoveryPlan, (first, rest): (Span, Span)) -> (Span, Span) {
    let all = draft.estate().passages_of(plan.id);
    let last = all.iter().find(|p| p.kind == PassageKind::Move && p.ended.is_some());
    let took = |n: usize| last.and_then(|p| p.stages.get(n)?.took());
    (took(0).unwrap_or(first), took(1).unwrap_or(rest))
}

/// What comes before the stages of the plan, as it is foretold.
fn before_stages(there: &str, (first, rest): (Span, Span)) -> Vec<Passed> {
    let stage = |name: String, foretold: Span| Passed {
        name,
        foretold,
        began: None,
        ended: None,
        machines: vec![],
        left_out: vec![],
        then: vec![],
    };
    vec![stage("copied while on".into(), first), stage(format!("off, and at {there}"), rest)]
}
