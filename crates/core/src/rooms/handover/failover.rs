//! A failover: the site is gone, or is declared gone. Whatever of its machines can still be reached is powered off first; then what the
//! other site has of them goes on there, from the newest good point of each. What was superseded is kept aside.

use super::{
    Draft, Event, Failover, Step, arrive,
    arrive::{Arriving, Staging},
    chosen::{self, Chosen},
};
use crate::{
    crossing::{Bound, Crossing, listed},
    estate::{Machine, PassageKind, Passed, RecoveryPlan, Road, Wanted},
    finding::{Finding, Rule, Severity},
    ids::{MachineId, PassageId},
    limits,
    moment::Span,
    rooms::{
        machines,
        passages::{self, Laid, Marks, Of},
        replicas,
        snapshots,
    },
    runs::Object,
};
use std::sync::Arc;

/// Of so few machines each is told of; of more what they are together.
const EACH: usize = 8;

pub(super) fn failover(draft: &mut Draft<'_>, ask: &Failover) {
    "Fail over a recovery plan".clone_into(&mut draft.title);
    let Some(plan) = draft.estate().plans.get(&ask.plan).cloned() else {
        return draft.found(Finding::stop(Rule::Exists, "plan", "The plan is gone.").at("plan"));
    };
    let crossing = Crossing::of(draft.view, &plan, draft.now);
    let Some(road) = draft.estate().road(plan.way) else {
        return draft.found_all(crossing.findings);
    };
    let (from, to) = (road.from.site_name(draft.estate()), road.to.site_name(draft.estate()));
    let title = format!("Fail {} over to {to}", plan.name);
    draft.title.clone_from(&title);
    super::shift::is_free(draft, &plan);
    if ask.typed.trim() != from {
        let text = format!("Type the name of the site that is gone, to confirm: {from}.");
        draft.found(Finding::stop(Rule::Name, "confirmation", text).at("typed"));
    }
    let all = who(draft, &crossing, road, ask);
    if all.is_empty() {
        return draft.found(Finding::stop(Rule::Nothing, &plan.name, format!("Nothing of it could go on at {to}.")).at("plan"));
    }
    if let Err(words) = limits::DRILLED.check(all.len()) {
        draft.found(Finding::stop(Rule::Count, "plan", words).at("plan"));
    }
    let left = crossing.machines().count() - all.len();
    if left > 0 {
        let text = format!("{left} machines of the plan are left out, as {to} has nothing of them that could go on, or they are there already.");
        draft.found(Finding::mind(Rule::Content, &plan.name, text));
    }
    // What nobody can take back is said first.
    originals(draft, &all, (&from, &to));
    lost(draft, &all);
    busy(draft, &all);
    draft.found_all(crossing.findings.iter().filter(|f| super::shift::said(f)).cloned().map(softer));
    laid(draft, (&plan, &crossing), all, road);
    draft.title = title;
}

/// What would keep it from working is no reason to leave out those for whom it works.
fn softer(f: Finding) -> Finding {
    match f.stops() {
        true => Finding { severity: Severity::Mind, ..f },
        false => f,
    }
}

/// One that goes on there, as it was at a point.
struct Goes {
    arriving: Arriving,
    chosen: Chosen,
}

/// Where its original is, as far as anybody knows.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Original {
    /// It can be powered off.
    Runs,
    Off,
    /// Its host was proved off.
    Dead,
    /// Nobody can reach it, and it may run.
    Unknown,
}

fn original(draft: &Draft<'_>, machine: &Machine) -> Original {
    let host = machine.host.and_then(|h| draft.estate().hosts.get(&h));
    match host {
        _ if machine.is_off() => Original::Off,
        Some(host) if matches!(host.condition, crate::estate::Condition::Off { .. }) => Original::Dead,
        Some(_) if draft.estate().unknown(machine).is_none() => Original::Runs,
        Some(_) | None => Original::Unknown,
    }
}

fn who(draft: &mut Draft<'_>, crossing: &Crossing, road: Road<'_>, ask: &Failover) -> Vec<Goes> {
    let from = road.from.site;
    let here = |b: &&Bound| draft.estate().site_of(&b.machine) == Some(from) && !b.machine.carries;
    let able: Vec<(usize, &Bound)> = crossing.stages.iter().enumerate().flat_map(|(n, s)| s.machines.iter().map(move |b| (n, b))).filter(|(_, b)| here(b)).collect();
    let chosen = chosen::all(draft, &able, ask.which);
    let mut names = Vec::new();
    let mut all = Vec::new();
    for (stage, bound, chosen) in chosen {
        let Some(replica) = bound.replica.clone() else { continue };
        let machine = bound.machine.clone();
        let behind = super::member::behind(draft, &machine, road, &names);
        names.push(behind.clone());
        let home = replica.disks.first().map(|d| road.takers(draft.estate(), d.volume));
        let Some(via) = home.and_then(|all| all.first().copied()).or(bound.host) else {
            let text = format!("No host reaches what {} is of {}; it is left out.", replica.name, machine.name);
            draft.found(Finding::mind(Rule::HostOpen, &machine.name, text));
            continue;
        };
        let starts = !machine.is_off() || machine.wanted == Wanted::On || machine.fell.is_some();
        let arriving = Arriving { stage, behind, point: chosen.session, taken: chosen.taken, starts, via, ready: None, machine, replica };
        all.push(Goes { arriving, chosen });
    }
    all
}

/// A run that can't go on without the site holds what is to go on here.
fn busy(draft: &mut Draft<'_>, all: &[Goes]) {
    let busy = |g: &&Goes| draft.view.runs.will_change(Object::Machine(g.arriving.replica.id));
    let names: Vec<&str> = all.iter().filter(busy).map(|g| g.arriving.machine.name.as_str()).collect();
    if let Some(first) = names.first() {
        let text = format!("Another run writes what is there of {}: nothing of the plan goes on before that run is over.", listed(&names));
        let mind = Finding::mind(Rule::Held, *first, text).at("plan");
        draft.found(mind.remedy("Where it waits for the site that is gone, cancel it on its page; what it had begun to bring is dropped."));
    }
}

/// What nobody has any more, of each or together.
fn lost(draft: &mut Draft<'_>, all: &[Goes]) {
    let now = draft.now;
    let each = |goes: &Goes| {
        let span = now.since(goes.arriving.taken);
        let bytes = crate::rooms::carrying::changed(draft, &goes.arriving.machine, span);
        (span, bytes)
    };
    let told: Vec<(Span, Option<crate::units::Bytes>)> = all.iter().map(each).collect();
    if all.len() <= EACH {
        for (goes, (span, bytes)) in all.iter().zip(&told) {
            let name = &goes.arriving.machine.name;
            let wrote = bytes.map_or_else(String::new, |b| format!(", {b} at most"));
            let text = format!("{name} goes on as it was at {} UTC: what it wrote in the {span} since is lost{wrote}.", goes.arriving.taken.stamp());
            draft.found(Finding::mind(Rule::Content, name, text).because(goes.chosen.why.clone()));
        }
        return;
    }
    let longest = told.iter().map(|(span, _)| *span).max().unwrap_or_default();
    let bytes: crate::units::Bytes = told.iter().filter_map(|(_, b)| *b).sum();
    let unknown = told.iter().filter(|(_, b)| b.is_none()).count();
    let more = if unknown > 0 { format!(", and of {unknown} nobody knows how much") } else { String::new() };
    let text = format!("What {} machines wrote in the last {longest} at most is lost: {bytes} at most{more}. Each is in the plan's table, with the instant that it goes on from.", all.len());
    draft.found(Finding::mind(Rule::Content, "machines", text));
}

/// Who may run beside what goes on.
fn originals(draft: &mut Draft<'_>, all: &[Goes], (from, to): (&str, &str)) {
    let of = |wanted: Original| -> Vec<&str> { all.iter().filter(|g| original(draft, &g.arriving.machine) == wanted).map(|g| g.arriving.machine.name.as_str()).collect() };
    let (runs, unknown, dead) = (of(Original::Runs), of(Original::Unknown), of(Original::Dead));
    let mut found = Vec::new();
    if let Some(first) = unknown.first() {
        let text = format!("Nobody can reach {}: originals may still run at {from}. Where they do and are heard, guests that have the same addresses answer at both sites, and what is written there is lost once {to} is what counts.", listed(&unknown));
        let mind = Finding::mind(Rule::Identity, *first, text).at("typed");
        found.push(mind.remedy("Make sure that the site is without power or without its lines before you type its name. Whatever of them answers later is powered off at once and kept aside."));
    }
    if let Some(first) = runs.first() {
        let (answer, they) = if runs.len() == 1 { ("answers", "it is") } else { ("answer", "they are") };
        let text = format!("{} {answer}: {they} powered off first, as if the plug were pulled. A planned move would lose nothing.", listed(&runs));
        found.push(Finding::mind(Rule::Identity, *first, text).at("typed").remedy(format!("If {from} is in order, move the plan instead.")));
    }
    if let Some(first) = dead.first() {
        let text = format!("The hosts of {} were proved off: they run nowhere.", listed(&dead));
        found.push(Finding::clear(Rule::Identity, *first, text));
    }
    draft.found_all(found);
    let interrupted: Vec<Arc<Machine>> = all.iter().filter(|g| original(draft, &g.arriving.machine) == Original::Runs).map(|g| g.arriving.machine.clone()).collect();
    interrupted.iter().for_each(|m| draft.interrupts(m));
}

fn laid(draft: &mut Draft<'_>, (plan, crossing): (&Arc<RecoveryPlan>, &Crossing), mut all: Vec<Goes>, road: Road<'_>) {
    let of = Of { plan: plan.id, passage: PassageId(draft.number()) };
    let our: fn(passages::Step) -> Step = Step::Passage;
    let laid = Laid { of, our };
    let from = road.from.site_name(draft.estate());
    let open = laid.step(draft, (passages::Step::Open { of, stage: 0 }, format!("Nothing of it runs at {from} any more")), &[]);
    let fenced = fenced(draft, &all, open);
    for goes in &mut all {
        goes.arriving.ready = back(draft, goes, &fenced).or(fenced.last().copied());
    }
    let arriving: Vec<Arriving> = all.into_iter().map(|g| g.arriving).collect();
    let then = arrive::afterwards(draft, &arriving, road);
    let hosts = arrive::placed(draft, &arriving, &then, softer);
    let there = arrive::over(draft, &arriving, road, (&fenced, true));
    let close = passages::Step::Close { of, stage: 0, copies: vec![] };
    let mut gate = laid.step(draft, (close, "It is the other site's".into()), &[there]);
    let mut passed = vec![first(draft, plan, &from)];
    let mut staging = Staging { plan, crossing, laid, first: 1, hosts: &hosts, marks: Marks::default(), up: vec![] };
    for n in 0..plan.stages.len() {
        let (closed, stage) = staging.stage(draft, n, &arriving, &[gate]);
        gate = closed;
        passed.push(stage);
    }
    let laid = staging.laid;
    let turn = passages::Step::Turn { of, from: road.to.site };
    let turn = laid.step(draft, (turn, "The plan leads back".into()), &[gate]);
    laid.step(draft, (passages::Step::End { of }, "Write the report".into()), &[turn]);
    let began = passages::begins(draft, (plan, PassageKind::Failover), of, passed);
    draft.intend(Event::Passage(began));
}

/// Those that answer are off before anything of them goes on elsewhere.
fn fenced(draft: &mut Draft<'_>, all: &[Goes], open: usize) -> Vec<usize> {
    let on: Vec<MachineId> = all.iter().filter(|g| !g.arriving.machine.is_off()).map(|g| g.arriving.machine.id).collect();
    if on.is_empty() {
        return vec![open];
    }
    let rest = replicas::Step::Rest { machines: on };
    let rest = draft.step(Step::Replica(rest), "Nobody brings the originals back".into(), &[open], None);
    let runs = all.iter().filter(|g| original(draft, &g.arriving.machine) == Original::Runs);
    let runs: Vec<(MachineId, String)> = runs.map(|g| (g.arriving.machine.id, g.arriving.machine.name.clone())).collect();
    let off = runs.into_iter().map(|(machine, name)| {
        let off = Step::Machine(machines::Step::Off { machine });
        draft.step(off, format!("Power {name} off"), &[rest], None)
    });
    let mut steps: Vec<usize> = off.collect();
    if steps.is_empty() {
        steps.push(rest);
    }
    steps
}

/// A replica that holds something newer than what it goes on from.
fn back(draft: &mut Draft<'_>, goes: &Goes, after: &[usize]) -> Option<usize> {
    let a = &goes.arriving;
    if a.replica.snapshots.rests_on == Some(a.point) {
        return None;
    }
    let step = snapshots::Step::Back { machine: a.replica.id, via: a.via, to: a.point };
    let title = format!("{} goes back to {} UTC", a.replica.name, a.taken.stamp());
    Some(draft.step(Step::Snap(step), title, after, None))
}

/// What comes before the stages of the plan, as long as it took when the plan failed over last.
fn first(draft: &Draft<'_>, plan: &RecoveryPlan, from: &str) -> Passed {
    let all = draft.estate().passages_of(plan.id);
    let last = all.iter().find(|p| p.kind == PassageKind::Failover && p.ended.is_some());
    let took = last.and_then(|p| p.stages.first()?.took());
    Passed {
        name: format!("taken from {from}"),
        foretold: took.unwrap_or(Span::secs(2)),
        began: None,
        ended: None,
        machines: vec![],
        left_out: vec![],
        then: vec![],
    }
}

/// Machines of which another site was left something behind, that are seen running there: at once off, and kept aside.
pub(super) fn lay(draft: &mut Draft<'_>, machines: &[MachineId]) {
    "Power off what was superseded".clone_into(&mut draft.title);
    for machine in draft.machines(machines) {
        let name = &machine.name;
        let Some(replica) = &machine.replica else {
            let text = format!("{name} is no replica.");
            draft.found(Finding::stop(Rule::State, name, text).at("machines"));
            continue;
        };
        if machine.is_off() {
            continue;
        }
        let text = format!("{name} is what {} was before the other site took it over, and runs: it is powered off as if the plug were pulled, and kept aside as it is.", replica.name);
        draft.found(Finding::mind(Rule::Identity, name, text));
        draft.interrupts(&machine);
        draft.step(Step::Machine(machines::Step::Off { machine: machine.id }), format!("Power {name} off"), &[], None);
    }
}

/// What was kept aside becomes a replica again: what it holds is its first point, and whatever differs goes over next.
pub(super) fn clear(draft: &mut Draft<'_>, machines: &[MachineId]) {
    "Take up what was superseded".clone_into(&mut draft.title);
    if machines.is_empty() {
        return draft.found(Finding::stop(Rule::Nothing, "machines", "No machine is selected.").at("machines"));
    }
    let mut bytes = crate::units::Bytes::ZERO;
    let mut count = 0;
    for machine in draft.machines(machines) {
        let name = &machine.name;
        let stop = |text: String| Finding::stop(Rule::State, name, text).at("machines");
        let aside = machine.replica.as_ref().filter(|r| r.astray);
        let problem = match aside {
            None => Some(format!("{name} is not kept aside: nothing superseded it.")),
            Some(_) if machine.deleted.is_some() => Some(format!("{name} was deleted.")),
            Some(_) if !machine.is_off() => Some(format!("{name} is on; it is powered off first.")),
            Some(_) => None,
        };
        if let Some(text) = problem {
            draft.found(stop(text));
            continue;
        }
        let Some(via) = draft.via(&machine) else { continue };
        let number = draft.number();
        let snapshot = crate::ids::draw_uuid(draft.run().0, number, draft.now.0.unsigned_abs());
        let take = snapshots::Step::Take {
            machine: machine.id,
            via,
            snapshot,
            name: "as it was superseded".into(),
            note: String::new(),
            quiet: snapshots::Quiet::No,
            memory: false,
            ends: None,
            time: Span::secs(1),
        };
        let take = draft.step(Step::Snap(take), format!("Hold fast what {name} holds"), &[], None);
        let settle = arrive::left_behind(draft, (&machine, machine.id, name), via, &[take]);
        let follow = replicas::Step::Regard { replica: machine.id, snapshot };
        draft.step(Step::Replica(follow), format!("{name} follows again"), &[settle], None);
        bytes += machine.disk_total();
        count += 1;
    }
    if count > 0 {
        let text = format!("{count} machines are replicas again. What they hold stays as a point of each, until their job lets it go. The next run of the job reads both sides, {bytes} at most, and only what differs goes over.");
        draft.found(Finding::clear(Rule::Content, "machines", text));
        let text = "What was written there after the point that the other site went on from is in that point alone, and in no other.";
        draft.found(Finding::mind(Rule::Content, "machines", text));
    }
}
