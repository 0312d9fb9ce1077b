//! The checks before a recovery plan is kept or removed (rules, section 19).

use super::{Draft, Event, Keep, KeepStage, differ, read};
use crate::{
    crossing::Crossing,
    estate::{RecoveryPlan, Stage, Then, Way},
    expression::Expression,
    finding::{Finding, Rule, Severity},
    ids::{MachineId, PlanId},
    limits,
    moment::Span,
    text::Line,
};
use std::collections::BTreeMap;

/// No guest answers sooner, and nobody waits for one longer.
const SHORTEST: Span = Span::secs(5);
const LONGEST: Span = Span::mins(120);

fn stop(rule: Rule, field: &str, text: impl Into<String>) -> Finding {
    Finding::stop(rule, field, text).at(field)
}

pub(super) fn keep(draft: &mut Draft<'_>, ask: &Keep) {
    let name = ask.name.trim().to_owned();
    draft.title = match (ask.plan, name.as_str()) {
        (_, "") => "Plan a recovery".to_owned(),
        (None, name) => format!("Make recovery plan {name}"),
        (Some(_), name) => format!("Change recovery plan {name}"),
    };
    let had = ask.plan.and_then(|id| draft.estate().plans.get(&id)).cloned();
    if ask.plan.is_some() && had.is_none() {
        return draft.found(stop(Rule::Exists, "name", "The plan is gone."));
    }
    named(draft, ask, &name);
    let way = way(draft, ask.way);
    let stages = stages(draft, &ask.stages);
    let drills = way.and_then(|way| {
        let mut drills = drills(draft, way, &ask.drills)?;
        // What stands for networks of the other side stays for the day when it is turned.
        let site = draft.estate().road(way)?.to.site;
        let other = had.iter().flat_map(|p| &p.drills).filter(|(of, _)| draft.estate().site_of_network(**of).is_some_and(|s| s != site));
        drills.extend(other.map(|(of, stands)| (*of, *stands)));
        Some(drills)
    });
    let (Some(way), Some(stages), Some(drills)) = (way, stages, drills) else { return };
    let plan = RecoveryPlan {
        id: had.as_ref().map_or_else(|| PlanId(draft.number()), |p| p.id),
        name,
        way,
        stages,
        drills,
        edition: had.as_ref().map_or(1, |p| p.edition),
        changed: had.as_ref().map_or(draft.now, |p| p.changed),
    };
    if had.as_ref().is_some_and(|h| **h == plan) {
        return draft.found(stop(Rule::Nothing, "name", "Nothing of the plan is changed."));
    }
    let rows: Vec<usize> = ask.stages.iter().map(|s| s.row).collect();
    ordered(draft, &plan, &rows);
    // One that does not work yet can be kept: it stands under what needs somebody until it does.
    let crossing = Crossing::of(draft.view, &plan, draft.now);
    told(draft, &crossing, &rows);
    commands(draft, &plan);
    if let Some(had) = &had {
        let other = differ::said(draft.estate(), had, &plan);
        draft.found_all(other);
    }
    draft.found_all(crossing.findings.into_iter().map(softer));
    let plan = match had {
        Some(had) => RecoveryPlan { edition: had.edition.saturating_add(1), changed: draft.now, ..plan },
        None => plan,
    };
    draft.intend(Event::Kept(Box::new(plan)));
}

/// What would stop it if it had to be carried out does not keep it from being kept.
fn softer(f: Finding) -> Finding {
    match f.stops() && f.field.is_none() {
        true => Finding { severity: Severity::Mind, ..f },
        false => f,
    }
}

pub(super) fn turn(draft: &mut Draft<'_>, id: PlanId) {
    "Turn a recovery plan".clone_into(&mut draft.title);
    let Some(plan) = draft.estate().plans.get(&id).cloned() else {
        return draft.found(stop(Rule::Exists, "plan", "The plan is gone."));
    };
    draft.title = format!("Turn recovery plan {}", plan.name);
    if draft.estate().passage_open(id).is_some() {
        return draft.found(stop(Rule::State, "plan", "It is being carried out.").remedy("Wait until that is over."));
    }
    let Some(road) = draft.estate().road(plan.way) else {
        return draft.found(stop(Rule::Exists, "plan", "Its pair is gone.").remedy("Choose another, in the plan."));
    };
    let from = road.to.site;
    let turned = RecoveryPlan { way: Way { from, ..plan.way }, ..RecoveryPlan::clone(&plan) };
    let text = format!("It leads over {}.", draft.estate().way_name(turned.way));
    draft.found(Finding::clear(Rule::Place, &plan.name, text));
    let crossing = Crossing::of(draft.view, &turned, draft.now);
    draft.found_all(crossing.findings.into_iter().map(softer));
    draft.intend(Event::Turned { plan: id, from, at: draft.now });
}

fn named(draft: &mut Draft<'_>, ask: &Keep, name: &str) {
    let other = draft.estate().plan_named(name).is_some_and(|p| Some(p.id) != ask.plan);
    if name.is_empty() {
        draft.found(stop(Rule::Name, "name", "Give it a name."));
    } else if let Err(words) = limits::GROUP.check(name.chars().count()) {
        draft.found(stop(Rule::Name, "name", words));
    } else if other {
        draft.found(stop(Rule::Name, "name", format!("There is a plan {name} already.")));
    }
    if ask.plan.is_none()
        && let Err(words) = limits::PLANS.check(draft.estate().plans.len() + 1)
    {
        draft.found(stop(Rule::Count, "name", words));
    }
}

fn way(draft: &mut Draft<'_>, way: Option<Way>) -> Option<Way> {
    let found = way.filter(|w| draft.estate().road(*w).is_some());
    if found.is_none() {
        let none = draft.estate().pairs.is_empty();
        let remedy = if none { "Pair two sites first." } else { "Choose one of the pairs, and from where to where." };
        draft.found(stop(Rule::Exists, "way", "Choose from where to where.").remedy(remedy));
    }
    found
}

/// All of them, or what is wrong with each, at its field.
fn stages(draft: &mut Draft<'_>, asked: &[KeepStage]) -> Option<Vec<Stage>> {
    if asked.is_empty() {
        draft.found(stop(Rule::Nothing, "stage-0", "Give the first stage a name."));
        return None;
    }
    if let Err(words) = limits::STAGES.check(asked.len()) {
        draft.found(stop(Rule::Count, "stage-0", words));
        return None;
    }
    let mut named: BTreeMap<MachineId, usize> = BTreeMap::new();
    let mut all = Vec::new();
    for (n, ask) in asked.iter().enumerate() {
        let stage = stage(draft, ask, &asked[..n]);
        for id in stage.iter().flat_map(|s| &s.named) {
            if let Some(before) = named.insert(*id, n) {
                let name = draft.estate().machines.get(id).map_or("A machine", |m| m.name.as_str());
                let text = format!("{name} is in stage {} already.", asked[before].name.trim());
                draft.found(stop(Rule::Name, &format!("named-{}", ask.row), text));
            }
        }
        all.push(stage);
    }
    all.into_iter().collect()
}

fn stage(draft: &mut Draft<'_>, ask: &KeepStage, before: &[KeepStage]) -> Option<Stage> {
    let at = |field: &str| format!("{field}-{}", ask.row);
    let name = ask.name.trim().to_owned();
    if name.is_empty() {
        draft.found(stop(Rule::Name, &at("stage"), "Give it a name."));
    } else if let Err(words) = limits::GROUP.check(name.chars().count()) {
        draft.found(stop(Rule::Name, &at("stage"), words));
    }
    if before.iter().any(|b| b.name.trim() == name) {
        draft.found(stop(Rule::Name, &at("stage"), format!("There is a stage {name} already.")));
    }
    if ask.limit < SHORTEST || ask.limit > LONGEST {
        draft.found(stop(Rule::State, &at("limit"), format!("Between {SHORTEST} and {LONGEST}.")));
    }
    let named = said(draft, &at("named"), read::names(draft.estate(), &ask.named));
    let who = match ask.who.trim() {
        "" => Some(None),
        text => said(draft, &at("who"), Expression::read(text)).map(Some),
    };
    let then = said(draft, &at("then"), read::thens(draft.estate(), &ask.then));
    let (named, who, then) = (named?, who?, then?);
    if named.is_empty() && who.is_none() {
        draft.found(stop(Rule::Nothing, &at("named"), "Name its machines, or labels that they have."));
    }
    Some(Stage { name, named, who, in_turn: ask.in_turn, limit: ask.limit, then })
}

fn said<T>(draft: &mut Draft<'_>, field: &str, read: Result<T, String>) -> Option<T> {
    read.map_err(|words| draft.found(stop(Rule::State, field, words))).ok()
}

fn drills(draft: &mut Draft<'_>, way: Way, text: &str) -> Option<BTreeMap<crate::ids::NetworkId, crate::ids::NetworkId>> {
    let site = draft.estate().road(way)?.to.site;
    said(draft, "drills", read::networks(draft.estate(), site, text))
}

/// A command is asked of a machine that is up by then.
fn ordered(draft: &mut Draft<'_>, plan: &RecoveryPlan, rows: &[usize]) {
    let members: Vec<Vec<MachineId>> = draft.estate().in_plan(plan).iter().map(|s| s.iter().map(|m| m.id).collect()).collect();
    for (n, stage) in plan.stages.iter().enumerate() {
        for then in &stage.then {
            let Then::Run { machine, .. } = then else { continue };
            let up = members.iter().take(n + 1).flatten().any(|id| id == machine);
            if !up {
                let name = draft.estate().machines.get(machine).map_or("The machine", |m| m.name.as_str());
                let text = format!("{name} is in neither this stage nor one before it: it is not up by then.");
                draft.found(stop(Rule::State, &format!("then-{}", rows[n]), text));
            }
        }
    }
}

/// What runs in guests is said before it is kept.
fn commands(draft: &mut Draft<'_>, plan: &RecoveryPlan) {
    let all = plan.stages.iter().flat_map(|s| &s.then);
    if { all }.any(|t| matches!(t, Then::Run { .. })) {
        let text = "Commands run in guests with the rights of their agents, every time that the plan is drilled or carried out.";
        draft.found(Finding::mind(Rule::Guest, &plan.name, text));
    }
}

/// How it would be carried out.
fn told(draft: &mut Draft<'_>, crossing: &Crossing, rows: &[usize]) {
    for (n, stage) in crossing.stages.iter().enumerate() {
        let names: Vec<&str> = stage.machines.iter().map(|b| b.machine.name.as_str()).collect();
        if names.is_empty() {
            continue;
        }
        let time = Span(stage.to.0.saturating_sub(stage.from.0));
        let text = format!("Stage {}: {}; up in {time}.", stage.name, crate::crossing::listed(&names));
        draft.found(Finding::clear(Rule::Label, &stage.name, text).at(&format!("who-{}", rows[n])));
    }
    let asks = match crossing.asks() {
        0 => "nobody is asked anything meanwhile".to_owned(),
        1 => "beside what one person takes to confirm".to_owned(),
        n => format!("beside what people take to confirm {n} times"),
    };
    if crossing.machines().next().is_some() {
        let text = format!("All of it is up {} after somebody begins, {asks}.", crossing.time());
        draft.found(Finding::clear(Rule::State, "time", text));
    }
}

pub(super) fn remove(draft: &mut Draft<'_>, id: PlanId, typed: &Line) {
    "Remove a recovery plan".clone_into(&mut draft.title);
    let Some(plan) = draft.estate().plans.get(&id).cloned() else {
        return draft.found(stop(Rule::Exists, "typed", "The plan is gone."));
    };
    let name = &plan.name;
    draft.title = format!("Remove recovery plan {name}");
    if draft.estate().passage_open(id).is_some() {
        draft.found(stop(Rule::State, "typed", "It is being carried out.").remedy("Wait until that is over, or stop it."));
    }
    if typed.trim() != name {
        draft.found(stop(Rule::Name, "typed", format!("Type its name to confirm: {name}.")));
    }
    let text = "Its machines are replicated as before; what is done when a site is gone nobody knows then. Reports of its drills stay.";
    draft.found(Finding::mind(Rule::Deleted, name, text).at("typed"));
    draft.intend(Event::Removed { plan: id, name: name.clone() });
}
