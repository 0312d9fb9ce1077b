//! One recovery plan: whether it would work now, its stages on a time axis, who is in them, and how it went.

use super::{lanes::Lanes, list};
use crate::frame::{
    AtDesk, Page, Problem, Query, Signed, Window, page as whole, part, sheet::render, time,
};
use crate::places::logbook::lately::{Line, lately};
use crate::places::protect::pairs::{Seen, seen};
use askama::Template;
use rocket::get;
use zastrugi_core::{
    crossing::{Bound, Crossing},
    estate::{Estate, Passage, RecoveryPlan},
    ids::PlanId,
    moment::Moment,
    permits::Act,
};

/// A machine of a stage.
struct InStage {
    stage: String,
    id: u64,
    name: String,
    replica: Option<(u64, String)>,
    /// Of which instant what is there is, and how old that is.
    newest: String,
    age: String,
    host: String,
    boots: String,
    glyph: &'static str,
    proven: String,
}

/// How it was carried out once.
pub(super) struct Went {
    pub(super) id: u64,
    pub(super) kind: &'static str,
    pub(super) began: String,
    pub(super) glyph: &'static str,
    pub(super) state: String,
    pub(super) edition: u32,
    pub(super) foretold: String,
    pub(super) took: String,
}

/// What somebody is asked now.
pub(super) struct Asked {
    pub(super) passage: u64,
    pub(super) mark: u64,
    pub(super) stage: String,
    pub(super) words: String,
}

#[derive(Template)]
#[template(path = "places/protect/plans/page.html", blocks = ["body"])]
struct PlanPage {
    id: u64,
    name: String,
    sentence: String,
    glyph: &'static str,
    state: String,
    asked: Option<Asked>,
    under_way: Option<u64>,
    seen: Vec<Seen>,
    lanes: String,
    rows: Vec<InStage>,
    window: Window,
    query: String,
    facts: Vec<(&'static str, String)>,
    went: Vec<Went>,
    events: Vec<Line>,
    /// Drill and answer; change and remove.
    may: bool,
    may_plan: bool,
}

fn in_stage(estate: &Estate, stage: &str, b: &Bound, now: Moment) -> InStage {
    let (glyph, proven) = match b.proven {
        Some((true, at)) => ("steady", format!("{} ago", now.since(at))),
        Some((false, at)) => ("down", format!("not well, {} ago", now.since(at))),
        None => ("unknown", "never".into()),
    };
    let host = b.host.and_then(|id| estate.hosts.get(&id));
    let measured = if b.measured { "" } else { ", not measured" };
    InStage {
        stage: stage.to_owned(),
        id: b.machine.id.0,
        name: b.machine.name.clone(),
        replica: b.replica.as_ref().map(|r| (r.id.0, r.name.clone())),
        newest: b.point.map_or_else(String::new, |(_, taken)| time(taken)),
        age: b
            .point
            .map_or_else(String::new, |(_, taken)| now.since(taken).to_string()),
        host: host.map_or_else(String::new, |h| h.name.clone()),
        boots: format!("{}{measured}", b.boots),
        glyph,
        proven,
    }
}

pub(super) fn went(p: &Passage) -> Went {
    let (came, of) = p.came();
    let (glyph, state) = match (p.is_open(), p.left, p.is_good()) {
        (true, _, _) => ("running", "goes on".to_owned()),
        (_, true, _) => ("mind", "given up".to_owned()),
        (_, _, true) => ("steady", format!("all {of} came up well")),
        (_, _, false) if came < of => ("down", format!("{came} of {of} came up well")),
        (_, _, false) => ("mind", format!("all {of} came up well; not all else did")),
    };
    Went {
        id: p.id.0,
        kind: p.kind.word(),
        began: time(p.began),
        glyph,
        state,
        edition: p.edition,
        foretold: p.foretold().to_string(),
        took: p.took().map_or_else(String::new, |s| s.to_string()),
    }
}

pub(super) fn asked(passage: Option<&Passage>) -> Option<Asked> {
    let passage = passage?;
    let (stage, between) = passage.waits_for()?;
    Some(Asked {
        passage: passage.id.0,
        mark: between.mark,
        stage: stage.name.clone(),
        words: between.words.clone(),
    })
}

fn sentence(estate: &Estate, plan: &RecoveryPlan, crossing: &Crossing, now: Moment) -> String {
    let way = estate.way_name(plan.way);
    let count = crossing.machines().count();
    let who = match (count, plan.stages.len()) {
        (0, _) => return format!("{way}: nobody is in it now."),
        (1, _) => "one machine".to_owned(),
        (n, 1) => format!("{n} machines"),
        (n, stages) => format!("{n} machines in {stages} stages"),
    };
    let lost = match crossing.oldest() {
        Some(oldest) => format!(", at most {} lost", now.since(oldest)),
        None => String::new(),
    };
    format!("{way}: {who}; up in {}{lost}.", crossing.time())
}

fn facts(estate: &Estate, plan: &RecoveryPlan) -> Vec<(&'static str, String)> {
    let name = |id| zastrugi_core::runs::Object::Network(id).name(estate);
    let stand = plan
        .drills
        .iter()
        .filter(|(of, _)| estate.site_of_network(**of) == estate.road(plan.way).map(|r| r.to.site))
        .map(|(of, stands)| format!("{} for {}", name(*stands), name(*of)));
    let stand: Vec<String> = stand.collect();
    vec![
        (
            "Networks in a drill",
            match stand.is_empty() {
                true => "none stands for another".into(),
                false => stand.join(" · "),
            },
        ),
        (
            "Edition",
            format!("{}, of {} UTC", plan.edition, plan.changed.stamp()),
        ),
    ]
}

async fn build(
    signed: &Signed,
    desk: &AtDesk,
    id: u64,
    (query, opened): (&Query, bool),
) -> Result<PlanPage, Problem> {
    let gone = || Problem::not_found("This plan");
    // Whoever opens it sees how it is now; what is refreshed beneath their eyes may be a few seconds older.
    let found = match opened {
        true => desk.crossing_now(PlanId(id)),
        false => desk.crossing(PlanId(id)),
    };
    let (plan, crossing) = found.ok_or_else(gone)?;
    let (view, now) = (desk.look(), crossing.at);
    let estate = &view.estate;
    let all: Vec<(&str, &Bound)> = crossing
        .stages
        .iter()
        .flat_map(|s| s.machines.iter().map(|b| (s.name.as_str(), b)))
        .collect();
    let (window, range) = Window::of(&format!("/protect/plans/{id}"), query, all.len());
    let (glyph, state) = list::state(&crossing);
    let open = estate.passage_open(plan.id);
    Ok(PlanPage {
        id,
        name: plan.name.clone(),
        sentence: sentence(estate, &plan, &crossing, now),
        glyph,
        state,
        asked: asked(open.map(|p| &**p)),
        under_way: open.map(|p| p.id.0),
        seen: crossing.findings.iter().cloned().map(seen).collect(),
        lanes: render(&Lanes::ahead(&crossing)),
        rows: all[range]
            .iter()
            .map(|(s, b)| in_stage(estate, s, b, now))
            .collect(),
        window,
        query: query.0.with("", ""),
        facts: facts(estate, &plan),
        went: estate
            .passages_of(plan.id)
            .into_iter()
            .take(SHOWN)
            .map(|p| went(p))
            .collect(),
        events: lately(desk, &plan.id.to_string()).await?,
        may: signed.may(Act::Machines),
        may_plan: signed.may(Act::Plans),
    })
}

/// So many of the times that it was carried out are shown.
const SHOWN: usize = 20;

#[get("/protect/plans/<id>")]
pub(crate) async fn show(signed: Signed, desk: &AtDesk, id: u64, query: Query) -> Page {
    let body = build(&signed, desk, id, (&query, true)).await?;
    let title = body.name.clone();
    whole(&signed, desk, "protect", &title, &body)
}

#[get("/protect/plans/<id>/part")]
pub(crate) async fn page_part(signed: Signed, desk: &AtDesk, id: u64, query: Query) -> Page {
    part(&build(&signed, desk, id, (&query, false)).await?.as_body())
}
