//! A run that does several things at each of several hosts: a lane for each host on one time axis, with what it does now, in
//! the device's words, and how that stands against what such steps usually take.

use super::axis::{Bar, Scale, Tick, ticks};
use crate::frame::Px;
use askama::Template;
use std::collections::BTreeMap;
use zastrugi_core::{
    ids::HostId,
    moment::{Moment, Span},
    road::{Length, Work},
    rooms::{Plan, Step},
    runs::{Object, Phase, Run, StepState},
    view::View,
};

const ROW: f64 = 24.0;
const LEFT: f64 = 130.0;
const WIDTH: f64 = 640.0;
/// Lanes are for what takes several steps at several hosts.
const LEAST_HOSTS: usize = 2;
const LEAST_STEPS: usize = 3;
/// Up to so many, each step is a bar of its own.
const FEW: usize = 8;
/// Hosts that are drawn.
const MOST: usize = 64;

struct Lane {
    host: u64,
    name: String,
    /// It has a console that can be opened.
    console: bool,
    text: Px,
    top: Px,
    bars: Vec<Bar>,
    now: String,
    failed: bool,
}

#[derive(Template)]
#[template(path = "places/logbook/lanes.html")]
pub(super) struct Lanes {
    words: String,
    width: Px,
    tall: Px,
    base: Px,
    below: Px,
    lanes: Vec<Lane>,
    ticks: Vec<Tick>,
    foretold: Px,
    /// When the dashed line is.
    until: String,
}

/// The one host that a step is done at, or for.
fn host_of(step: &Step) -> Option<HostId> {
    let hosts = step.about().into_iter().filter_map(|o| match o {
        Object::Host(id) => Some(id),
        _ => None,
    });
    let all: Vec<HostId> = hosts.collect();
    match all.as_slice() {
        [one] => Some(*one),
        _ => None,
    }
}

impl Lanes {
    /// None where lanes say nothing that the list of steps doesn't.
    pub(super) fn of(view: &View, run: &Run, plan: &Plan, now: Moment) -> Option<Lanes> {
        let mut all: BTreeMap<HostId, Vec<usize>> = BTreeMap::new();
        for (n, planned) in plan.steps.iter().enumerate() {
            if let Some(host) = host_of(&planned.step) {
                all.entry(host).or_default().push(n);
            }
        }
        let enough = all.len() >= LEAST_HOSTS && all.values().all(|s| s.len() >= LEAST_STEPS);
        if !enough || all.len() > MOST {
            return None;
        }
        let foretold = plan
            .steps
            .iter()
            .map(|p| p.when.to)
            .max()
            .unwrap_or_default();
        let end = run.ended.unwrap_or(now);
        let whole = end.since(run.began).max(foretold).max(Span::secs(10));
        let scale = Scale {
            since: run.began,
            left: LEFT,
            second: WIDTH / (whole.0 as f64 / 1000.0 * 1.04),
        };
        let mut named: Vec<(String, HostId, Vec<usize>)> = all
            .into_iter()
            .map(|(host, steps)| (Object::Host(host).name(&view.estate), host, steps))
            .collect();
        named.sort();
        let many = named.len() > FEW;
        let base = ROW * named.len() as f64 + 4.0;
        let lane = |(row, (name, host, steps)): (usize, (String, HostId, Vec<usize>))| {
            let (words, failed) = standing(view, run, plan, &steps, now);
            let known = view.estate.hosts.get(&host);
            Lane {
                host: host.0,
                console: known.is_some_and(|h| h.bmc.as_ref().is_some_and(|b| b.key.is_some())),
                text: Px(ROW * row as f64 + 15.0),
                top: Px(ROW * row as f64 + 4.0),
                bars: bars(run, plan, &steps, &scale, (now, many)),
                now: words,
                failed,
                name,
            }
        };
        Some(Lanes {
            words: format!("What is done at {} hosts, over {whole}", named.len()),
            width: Px(LEFT + WIDTH + 10.0),
            tall: Px(base + 20.0),
            base: Px(base),
            below: Px(base + 15.0),
            lanes: named.into_iter().enumerate().map(lane).collect(),
            ticks: ticks(whole, &scale, "began"),
            foretold: Px(scale.x(run.began.plus(foretold))),
            until: foretold.to_string(),
        })
    }
}

/// What was done at a host, as it went. Where there are many hosts, what was done without a pause is one bar.
fn bars(
    run: &Run,
    plan: &Plan,
    steps: &[usize],
    scale: &Scale,
    (now, many): (Moment, bool),
) -> Vec<Bar> {
    let mut spans: Vec<(Moment, Moment, &'static str, String, usize)> = Vec::new();
    let known = steps
        .iter()
        .filter_map(|n| run.step(*n).zip(plan.steps.get(*n)));
    let mut known: Vec<_> = known.filter_map(|(s, p)| Some((s.began?, s, p))).collect();
    known.sort_by_key(|(began, ..)| *began);
    for (began, state, planned) in known {
        let until = state.ended.unwrap_or(now);
        let class = match state.phase {
            Phase::Done => "boots",
            Phase::Failed => "fencing",
            Phase::Running => "open",
            Phase::Waiting | Phase::Queued { .. } | Phase::Skipped => continue,
        };
        match spans.last_mut() {
            Some(last)
                if many
                    && class == "boots"
                    && last.2 == class
                    && scale.x(began) - scale.x(last.1) < 2.0 =>
            {
                last.1 = last.1.max(until);
                last.4 += 1;
            }
            _ => spans.push((began, until, class, planned.title.clone(), 1)),
        }
    }
    let bar =
        |(began, until, class, title, count): (Moment, Moment, &'static str, String, usize)| {
            let took = until.since(began);
            let words = match count {
                1 => format!("{title}, {took}"),
                n => format!("{n} steps, {took}"),
            };
            scale.bar((began, until), class, words)
        };
    spans.into_iter().map(bar).collect()
}

/// What the host does now, or why it doesn't; and whether it is that.
fn standing(view: &View, run: &Run, plan: &Plan, steps: &[usize], now: Moment) -> (String, bool) {
    let states: Vec<(usize, &StepState)> = steps
        .iter()
        .filter_map(|n| Some((*n, run.step(*n)?)))
        .collect();
    let in_phase = |wanted: fn(&Phase) -> bool| states.iter().find(|(_, s)| wanted(&s.phase));
    if let Some((_, state)) = in_phase(|p| matches!(p, Phase::Failed)) {
        let said = state.fault.as_ref().map_or("", |f| f.said.as_str());
        return (said.to_owned(), true);
    }
    if let Some((n, state)) = in_phase(|p| matches!(p, Phase::Running)) {
        let group = plan.steps.get(*n).map_or("", |p| p.step.group());
        let said = view.said(run, *n);
        let words = if said.is_empty() {
            group.to_owned()
        } else {
            format!("{group}: {said}")
        };
        let usual = plan.steps.get(*n).zip(state.began).and_then(|(p, began)| {
            let (Length::Call(usual) | Length::Wait(usual) | Length::Computed(usual)) =
                p.step.length();
            view.pace.longer_than(group, usual, now.since(began))
        });
        return match usual {
            Some((shorter, all)) => (
                format!("{words} · longer than {shorter} of {all} took here"),
                false,
            ),
            None => (words, false),
        };
    }
    let done = states
        .iter()
        .filter(|(_, s)| s.phase == Phase::Done)
        .count();
    if done == states.len() {
        return ("done".into(), false);
    }
    if let Some((_, state)) = in_phase(|p| matches!(p, Phase::Queued { .. }))
        && let Phase::Queued { behind, .. } = &state.phase
    {
        return (format!("waits for {behind}"), false);
    }
    let next = states.iter().find(|(_, s)| s.phase == Phase::Waiting);
    let next = next
        .and_then(|(n, _)| plan.steps.get(*n))
        .map_or("", |p| p.step.group());
    match run.state.open() {
        true => (format!("waits for others, then: {next}"), false),
        false => ("left out".into(), false),
    }
}
