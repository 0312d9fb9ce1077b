//! How a plan was carried out: a report that can be printed, and the same as CSV.

use super::{
    lanes::Lanes,
    page::{Asked, Went, asked, went},
};
use crate::frame::{
    AtDesk, Page, Problem, Query, Signed, Window, page as whole, part, sheet::render, time,
};
use crate::places::logbook::lately::{Line, lately};
use crate::places::protect::prove;
use askama::Template;
use rocket::get;
use std::collections::BTreeMap;
use zastrugi_core::{
    estate::{Arrived, Between, Estate, Passage, PassageKind, Passed},
    ids::PassageId,
    permits::Act,
};

struct StageRow {
    name: String,
    began: String,
    foretold: String,
    took: String,
    came: String,
    left_out: String,
    then: Vec<ThenRow>,
}

/// Who answered, by the mark of what was asked.
pub(super) type Answered = BTreeMap<u64, String>;

struct ThenRow {
    asks: bool,
    glyph: &'static str,
    words: String,
    said: String,
    ended: String,
}

struct MachineRow {
    stage: String,
    id: u64,
    name: String,
    point: String,
    taken: String,
    lost: String,
    host: String,
    booted: String,
    glyph: &'static str,
    said: String,
}

#[derive(Template)]
#[template(path = "places/protect/plans/passage.html", blocks = ["body"])]
struct PassagePage {
    id: u64,
    plan: u64,
    plan_there: bool,
    title: String,
    sentence: String,
    went: Went,
    began: String,
    ended: String,
    way: String,
    run: u64,
    asked: Option<Asked>,
    lanes: String,
    stages: Vec<StageRow>,
    rows: Vec<MachineRow>,
    window: Window,
    whole: bool,
    query: String,
    events: Vec<Line>,
    may: bool,
    /// Nothing of it went over, and these are off.
    off: Vec<(u64, String)>,
    lost_is: &'static str,
}

fn glyph(good: Option<bool>, began: bool) -> &'static str {
    match (good, began) {
        (Some(true), _) => "steady",
        (Some(false), _) => "down",
        (None, true) => "running",
        (None, false) => "unknown",
    }
}

fn then_row(b: &Between, over: bool, who: &Answered) -> ThenRow {
    let state = match (b.good, b.asks, b.began.is_some()) {
        (Some(true), _, false) if b.holds => "so it was",
        (Some(true), _, true) if b.holds => "all of it was well after all",
        (Some(false), _, _) if b.holds => "it went on as it was",
        (None, _, false) if b.holds && over => "was not looked at",
        (None, _, false) if b.holds => "else a person is asked",
        (Some(true), true, _) => "confirmed",
        (Some(false), true, _) => "denied",
        (Some(true), false, _) => "done",
        (Some(false), false, _) => "not well",
        (None, true, true) => "somebody is waited for",
        (None, _, _) if over => "was not tried",
        (None, _, _) => "has not come that far",
    };
    let by = who
        .get(&b.mark)
        .map_or_else(String::new, |w| format!(" by {w}"));
    let said = match b.said.as_str() {
        "" => format!("{state}{by}"),
        said => format!("{state}{by}: {said}"),
    };
    ThenRow {
        // Nobody was asked where all was well.
        asks: b.asks && (!b.holds || b.began.is_some()),
        glyph: glyph(b.good, b.began.is_some()),
        words: match b.holds && b.began.is_none() {
            true => "all of it is well".into(),
            false => b.words.clone(),
        },
        said,
        ended: b.ended.map_or_else(String::new, time),
    }
}

fn stage_row(s: &Passed, who: &Answered) -> StageRow {
    let good = s.machines.iter().filter(|m| m.good == Some(true)).count();
    StageRow {
        name: s.name.clone(),
        began: s.began.map_or_else(String::new, time),
        foretold: s.foretold.to_string(),
        took: s.took().map_or_else(String::new, |t| t.to_string()),
        came: match s.machines.len() + s.left_out.len() {
            0 => String::new(),
            of => format!("{good} of {of}"),
        },
        left_out: s.left_out.join(", "),
        then: s
            .then
            .iter()
            .map(|b| then_row(b, s.ended.is_some(), who))
            .collect(),
    }
}

/// What would have been lost, had it been carried out in earnest when it began; of what was moved, that nothing was.
fn lost(passage: &Passage, m: &Arrived) -> String {
    match (passage.kind, m.equal) {
        (PassageKind::Drill | PassageKind::Failover, _) => passage.began.since(m.taken).to_string(),
        (PassageKind::Move, Some(equal)) => match (equal.extents, equal.all) {
            (0, _) => "nothing: it had written nothing since".into(),
            (n, true) => format!("nothing: all {n} extents are equal"),
            (n, false) => format!("nothing: {n} extents are equal"),
        },
        (PassageKind::Move, None) => String::new(),
    }
}

fn machine_row(passage: &Passage, s: &Passed, m: &Arrived) -> MachineRow {
    MachineRow {
        stage: s.name.clone(),
        id: m.machine.0,
        name: m.name.clone(),
        // What went on from it wrote on: there is nothing to look at but the machine.
        point: match passage.kind {
            PassageKind::Drill => prove::path(m.point),
            PassageKind::Move | PassageKind::Failover => String::new(),
        },
        taken: time(m.taken),
        lost: lost(passage, m),
        host: m.host.clone(),
        booted: m.booted.map_or_else(String::new, |b| b.to_string()),
        glyph: glyph(m.good, s.began.is_some()),
        said: match (m.good, s.began) {
            (Some(_), _) => m.said.clone(),
            (None, Some(_)) => "under way".into(),
            (None, None) => "has not come that far".into(),
        },
    }
}

fn sentence(p: &Passage) -> String {
    let (came, of) = p.came();
    let stage = p
        .stages
        .iter()
        .find(|s| s.began.is_some() && s.ended.is_none());
    match (p.is_open(), p.left, stage) {
        (true, _, Some(stage)) => format!(
            "Stage {} goes on; {came} of {of} machines are through.",
            stage.name
        ),
        (true, _, None) if p.kind != PassageKind::Drill => {
            "What is left is being cleared away.".into()
        }
        (true, _, None) if came == 0 => format!("Copies of {of} machines are being made."),
        (true, _, None) => "What was brought up is being removed.".into(),
        (_, true, _) => format!("It was given up; {came} of {of} machines had come up well."),
        _ => format!("{came} of {of} machines came up well."),
    }
}

/// Machines of a move that was given up before anything went over: they are off where they were.
fn off(estate: &Estate, p: &Passage) -> Vec<(u64, String)> {
    if !p.left || p.kind == PassageKind::Drill {
        return vec![];
    }
    let all = p
        .stages
        .iter()
        .flat_map(|s| &s.machines)
        .filter(|m| m.good.is_none());
    let all = all.filter_map(|m| estate.machines.get(&m.machine));
    let all = all.filter(|m| m.is_off() && m.deleted.is_none());
    all.map(|m| (m.id.0, m.name.clone())).collect()
}

/// The runs by which somebody answered know who it was.
pub(super) async fn answered(desk: &AtDesk, passage: &Passage) -> Result<Answered, Problem> {
    let all = passage.stages.iter().flat_map(|s| &s.then);
    let mut who = Answered::new();
    for (mark, run) in all.filter_map(|b| Some((b.mark, b.answer?))) {
        if let Some((run, _)) = desk.run(run).await? {
            who.insert(mark, run.by.name.clone());
        }
    }
    Ok(who)
}

async fn build(
    signed: &Signed,
    desk: &AtDesk,
    id: u64,
    query: &Query,
) -> Result<PassagePage, Problem> {
    let estate = desk.look().estate;
    let gone = || Problem::not_found("This report");
    let passage = estate.passages.get(&PassageId(id)).ok_or_else(gone)?;
    let all: Vec<(&Passed, &Arrived)> = passage
        .stages
        .iter()
        .flat_map(|s| s.machines.iter().map(move |m| (s, m)))
        .collect();
    let (window, range) = Window::of(&format!("/protect/passages/{id}"), query, all.len());
    // On paper nobody turns to the next window; a drill has no more than can be printed.
    let whole = query.0.get("whole") == "1";
    let range = if whole { 0..all.len() } else { range };
    let who = answered(desk, passage).await?;
    let kind = match passage.kind {
        PassageKind::Drill => "Drill",
        PassageKind::Move => "Move",
        PassageKind::Failover => "Failover",
    };
    Ok(PassagePage {
        id,
        plan: passage.plan.0,
        plan_there: estate.plans.contains_key(&passage.plan),
        title: format!("{kind} of {}", passage.name),
        sentence: sentence(passage),
        went: went(passage),
        // With the day: it may be read on paper, and later.
        began: format!("{} UTC", passage.began.stamp()),
        ended: passage
            .ended
            .map_or_else(String::new, |at| format!("{} UTC", at.stamp())),
        way: passage.way.clone(),
        run: passage.run.0,
        asked: asked(Some(passage)),
        lanes: render(&Lanes::went(passage)),
        stages: passage.stages.iter().map(|s| stage_row(s, &who)).collect(),
        rows: all[range]
            .iter()
            .map(|(s, m)| machine_row(passage, s, m))
            .collect(),
        window,
        whole,
        query: query.0.with("", ""),
        events: lately(desk, &passage.plan.to_string()).await?,
        may: signed.may(Act::Machines),
        off: off(&estate, passage),
        lost_is: match passage.kind {
            PassageKind::Drill => {
                "what would have been lost of it, had its site been gone when this began."
            }
            PassageKind::Move => {
                "nothing, once both sides say by digests (SHA-256, 4 MiB each) that they hold the same of what went over last."
            }
            PassageKind::Failover => {
                "what it wrote from that instant until this began, if it still ran then."
            }
        },
    })
}

#[get("/protect/passages/<id>")]
pub(crate) async fn show(signed: Signed, desk: &AtDesk, id: u64, query: Query) -> Page {
    let body = build(&signed, desk, id, &query).await?;
    let title = body.title.clone();
    whole(&signed, desk, "protect", &title, &body)
}

#[get("/protect/passages/<id>/part")]
pub(crate) async fn page_part(signed: Signed, desk: &AtDesk, id: u64, query: Query) -> Page {
    part(&build(&signed, desk, id, &query).await?.as_body())
}
