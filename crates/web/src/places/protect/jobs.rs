//! Jobs: a table of them with the week to come, one with whom it is about, and the sheets that begin, pause and remove one.

use super::{
    prove::{Proven, proven},
    week::Week,
};
use crate::frame::{
    AtDesk, Fields, Page, Problem, Query, Signed, Window, page as whole, part,
    sheet::{Filled, render},
    time,
};
use crate::places::logbook::lately::{Line, lately};
use askama::Template;
use rocket::get;
use std::sync::Arc;
use zastrugi_core::{
    estate::{Estate, Goal, Job, Machine, Order, Way},
    ids::{JobId, PairId, SiteId, StoreId},
    moment::{Moment, Span},
    permits::Act,
    rooms::{
        Proposal,
        backups::{self, JobRun},
        jobs::Ask,
        replicating,
    },
    view::View,
};

/// How often, as it can be chosen; the last has the hour that is typed.
pub(super) const OFTEN: [(&str, &str); 9] = [
    ("every 15 minutes", "FREQ=HOURLY;BYMINUTE=0,15,30,45"),
    ("every hour", "FREQ=HOURLY;BYMINUTE=0"),
    ("every 2 hours", "FREQ=HOURLY;INTERVAL=2;BYMINUTE=0"),
    ("every 4 hours", "FREQ=HOURLY;INTERVAL=4;BYMINUTE=0"),
    ("every 12 hours", "FREQ=HOURLY;INTERVAL=12;BYMINUTE=0"),
    ("every day", "FREQ=DAILY"),
    ("Monday to Friday", "FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR"),
    ("every Sunday", "FREQ=WEEKLY;BYDAY=SU"),
    ("on the first of each month", "FREQ=MONTHLY;BYMONTHDAY=1"),
];
/// A job in the list.
pub(super) struct JobRow {
    pub(super) id: u64,
    pub(super) name: String,
    pub(super) who: String,
    pub(super) machines: usize,
    /// Where that is looked at, and what it is called.
    pub(super) to: (String, String),
    pub(super) often: String,
    pub(super) keeps: String,
    /// How often points are proven by themselves.
    pub(super) proves: String,
    pub(super) last: String,
    pub(super) next: String,
    pub(super) paused: bool,
}

/// In words where it was chosen, else the rule as it is.
fn often(job: &Job) -> String {
    let rule = job.when.rule.as_str();
    let same = |r: &str| {
        let rest = rule.strip_prefix(r)?;
        (rest.is_empty() || rest.starts_with(";BYHOUR=")).then_some(rest)
    };
    if rule == "FREQ=DAILY;COUNT=1" {
        return format!(
            "once, {} {}",
            job.when.local(job.when.begins),
            job.when.zone
        );
    }
    let Some((words, rest)) = OFTEN.iter().find_map(|(w, r)| Some((w, same(r)?))) else {
        return rule.to_owned();
    };
    match clock(rest) {
        Some(at) => format!("{words} at {at}, {}", job.when.zone),
        None => (*words).to_owned(),
    }
}

/// `22:30` of `;BYHOUR=22;BYMINUTE=30`.
pub(super) fn clock(rest: &str) -> Option<String> {
    let rest = rest.strip_prefix(";BYHOUR=")?;
    let (hour, minute) = rest.split_once(";BYMINUTE=")?;
    let (hour, minute): (u16, u16) = (hour.parse().ok()?, minute.parse().ok()?);
    Some(format!("{hour:02}:{minute:02}"))
}

/// Where the place that a job copies to is looked at.
fn link(to: Goal) -> String {
    match to {
        Goal::Store(id) => format!("/protect/stores/{}", id.0),
        Goal::Over(way) => format!("/protect/pairs/{}", way.pair.0),
    }
}

/// How it is chosen in a sheet: `3`, `over-5-2`.
pub(super) fn goal_key(to: Goal) -> String {
    match to {
        Goal::Store(id) => id.0.to_string(),
        Goal::Over(way) => format!("over-{}-{}", way.pair.0, way.from.0),
    }
}

pub(super) fn goal_of(key: &str) -> Option<Goal> {
    let Some(rest) = key.strip_prefix("over-") else {
        return key.parse().ok().map(|id| Goal::Store(StoreId(id)));
    };
    let (pair, from) = rest.split_once('-')?;
    Some(Goal::Over(Way {
        pair: PairId(pair.parse().ok()?),
        from: SiteId(from.parse().ok()?),
    }))
}

/// All places that a job can copy to: stores, then both ways of each pair.
pub(super) fn goals(estate: &Estate) -> Vec<(String, String)> {
    let stores = estate.stores.values().filter(|s| s.ready);
    let stores = stores.map(|s| {
        let words = format!("store {}, {}", s.name, s.lies.words());
        (goal_key(Goal::Store(s.id)), words)
    });
    let ways = estate.pairs.values().flat_map(|p| p.ways());
    let ways = ways.map(|w| {
        let words = format!("over pair {}", estate.way_name(w));
        (goal_key(Goal::Over(w)), words)
    });
    let mut stores: Vec<_> = stores.collect();
    let mut ways: Vec<_> = ways.collect();
    stores.sort_by(|a, b| a.1.cmp(&b.1));
    ways.sort_by(|a, b| a.1.cmp(&b.1));
    stores.into_iter().chain(ways).collect()
}

pub(super) fn row(estate: &Estate, job: &Job) -> JobRow {
    JobRow {
        id: job.id.0,
        name: job.name.clone(),
        who: String::from(job.who.clone()),
        machines: estate.in_job(job).len(),
        to: (link(job.to), job.to.name(estate)),
        often: often(job),
        keeps: job.keeps.to_string(),
        proves: job.proves.map_or_else(String::new, |s| s.to_string()),
        last: job.last.map_or_else(String::new, time),
        next: job.next.map_or_else(String::new, time),
        paused: job.paused,
    }
}

pub(super) fn rows(estate: &Estate) -> Vec<JobRow> {
    let mut rows: Vec<JobRow> = estate.jobs.values().map(|j| row(estate, j)).collect();
    rows.sort_by(|a, b| a.name.cmp(&b.name));
    rows
}

/// A machine that a job is about.
struct InJob {
    id: u64,
    name: String,
    points: usize,
    newest: String,
    how: &'static str,
    proven: Proven,
    /// Nothing where it is copied.
    out: &'static str,
}

#[derive(Template)]
#[template(path = "places/protect/job.html", blocks = ["body"])]
struct JobPage {
    job: JobRow,
    rule: String,
    /// What it does otherwise than most.
    habits: Vec<(&'static str, String)>,
    sentence: String,
    week: String,
    rows: Vec<InJob>,
    window: Window,
    query: String,
    events: Vec<Line>,
    may: bool,
}

fn habits(job: &Job) -> Vec<(&'static str, String)> {
    let how = &job.how;
    let mut all = Vec::new();
    let mut add = |what, words: Option<String>| all.extend(words.map(|w| (what, w)));
    add(
        "Of the line",
        (!how.cap.is_none()).then(|| how.cap.to_string()),
    );
    add(
        "Who comes first",
        (how.order != Order::Number).then(|| how.order.words().to_owned()),
    );
    let same = |key: &String| format!("machines with the same {key}: all or none");
    add("Of one instant", how.together.as_ref().map(same));
    add("All is read", how.whole.map(|o| format!("every {o}")));
    let left = "disks that are taken out of what is promised";
    add("Not copied", how.leaves_out.then(|| left.to_owned()));
    add(
        "Beside the machine",
        how.local.map(|s| format!("what was copied stays {s}")),
    );
    add(
        "Points go",
        how.wanted.map(|s| format!("by themselves after {s}")),
    );
    all
}

fn in_job(estate: &Estate, job: &Job, m: &Machine) -> InJob {
    let there = estate.at_goal(m, job.to);
    let own: Vec<_> = there
        .iter()
        .flat_map(|e| e.points.iter().copied())
        .filter(|p| p.job == Some(job.id))
        .collect();
    let newest = own.last();
    InJob {
        id: m.id.0,
        name: m.name.clone(),
        points: own.len(),
        newest: newest.map_or_else(String::new, |p| time(p.taken)),
        how: newest.map_or("", |p| p.consistent.word()),
        proven: proven(newest.and_then(|p| p.proof.as_deref())),
        out: if m.is_node() {
            "shares disks, not copied"
        } else {
            ""
        },
    }
}

async fn build(signed: &Signed, desk: &AtDesk, id: u64, query: &Query) -> Result<JobPage, Problem> {
    let view = desk.look();
    let estate = &view.estate;
    let job = estate.jobs.get(&JobId(id));
    let job = job.ok_or_else(|| Problem::not_found("This job"))?;
    let mut all: Vec<&Arc<Machine>> = estate.in_job(job);
    all.sort_by(|a, b| a.name.cmp(&b.name));
    let (window, range) = Window::of(&format!("/protect/jobs/{id}"), query, all.len());
    let row = row(estate, job);
    Ok(JobPage {
        sentence: match (job.paused, job.next) {
            (true, _) => "It is paused: nothing is copied until it goes on.".into(),
            (false, None) => "It is never due again.".into(),
            (false, Some(_)) if row.machines == 1 => format!("One machine, to {}.", row.to.1),
            (false, Some(_)) => format!("{} machines, to {}.", row.machines, row.to.1),
        },
        rule: format!("{}, {}", job.when.rule, job.when.zone),
        habits: habits(job),
        week: render(&Week::of(&view, desk.now(), Some(job.id))),
        rows: all[range].iter().map(|m| in_job(estate, job, m)).collect(),
        window,
        query: query.0.with("", ""),
        events: lately(desk, &job.id.to_string()).await?,
        may: signed.may(Act::Machines),
        job: row,
    })
}

#[get("/protect/jobs/<id>")]
pub(crate) async fn show(signed: Signed, desk: &AtDesk, id: u64, query: Query) -> Page {
    let body = build(&signed, desk, id, &query).await?;
    let title = body.job.name.clone();
    whole(&signed, desk, "protect", &title, &body)
}

#[get("/protect/jobs/<id>/part")]
pub(crate) async fn page_part(signed: Signed, desk: &AtDesk, id: u64, query: Query) -> Page {
    part(&build(&signed, desk, id, &query).await?.as_body())
}

#[derive(Template)]
#[template(path = "places/protect/job_chosen.html")]
struct Chosen {
    id: u64,
    name: String,
}

/// The job that a sheet is about.
fn chosen(view: &View, fields: &Fields) -> (JobId, String, bool) {
    let id = fields.get("id").parse().map_or(JobId(0), JobId);
    let job = view.estate.jobs.get(&id);
    let name = job.map_or_else(|| "a job".to_owned(), |j| j.name.clone());
    (id, name, job.is_some_and(|j| j.paused))
}

fn simple(
    (id, name): (JobId, String),
    words: (&str, &str, &str),
    danger: bool,
    ask: Proposal,
) -> Filled {
    let (title, lead, run) = words;
    Filled {
        title: title.replace("{}", &name),
        lead: lead.into(),
        run: run.into(),
        danger,
        back: format!("/protect/jobs/{}", id.0),
        fields: render(&Chosen { id: id.0, name }),
        ask,
        wrong: vec![],
    }
}

pub(crate) fn begin(view: &View, fields: &Fields) -> Filled {
    let (id, name, _) = chosen(view, fields);
    let words = (
        "Begin job {} now",
        "What is due later is due as before.",
        "Run: begin it",
    );
    let run = JobRun {
        job: id,
        by_hand: true,
    };
    let over = view.estate.jobs.get(&id).and_then(|j| j.to.way());
    let ask = match over {
        Some(_) => Proposal::Replicating(replicating::Ask::Job(run)),
        None => Proposal::Backups(backups::Ask::Job(run)),
    };
    simple((id, name), words, false, ask)
}

pub(crate) fn pause(view: &View, fields: &Fields) -> Filled {
    let (id, name, paused) = chosen(view, fields);
    let words = match paused {
        true => (
            "Let job {} go on",
            "It is due again as its rule says.",
            "Run: let it go on",
        ),
        false => (
            "Pause job {}",
            "Nothing is copied until it goes on.",
            "Run: pause it",
        ),
    };
    let ask = Proposal::Jobs(Ask::Pause {
        job: id,
        paused: !paused,
    });
    simple((id, name), words, false, ask)
}

pub(crate) fn remove(view: &View, fields: &Fields) -> Filled {
    let (id, name, _) = chosen(view, fields);
    let words = (
        "Remove job {}",
        "Nothing more is copied by it; its points stay.",
        "Run: remove it",
    );
    simple(
        (id, name),
        words,
        true,
        Proposal::Jobs(Ask::Remove { job: id }),
    )
}

/// How far ahead the picture looks.
pub(super) const AHEAD: Span = Span::days(7);

/// When a picture begins: at a whole hour.
pub(super) fn begins(now: Moment) -> Moment {
    Moment(now.0.div_euclid(3_600_000) * 3_600_000)
}
