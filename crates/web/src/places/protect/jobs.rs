//! Jobs: a table of them with the week to come, one with whom it is about, and the sheets that keep, begin, pause and remove one.

use super::{
    prove::{Proven, proven},
    week::Week,
};
use crate::frame::{
    AtDesk, Fields, Page, Problem, Query, Signed, Window,
    consequences::Wrong,
    fields::minutes_to_choose,
    page as whole, part,
    sheet::{Filled, render},
    time,
};
use crate::places::logbook::lately::{Line, lately};
use askama::Template;
use rocket::get;
use std::sync::Arc;
use zastrugi_core::{
    estate::{Estate, Goal, Job, Machine, Way},
    ids::{JobId, PairId, SiteId, StoreId},
    moment::{Moment, Span},
    permits::Act,
    rooms::{
        Proposal,
        backups::{self, JobRun},
        jobs::{Ask, Keep},
        replicating,
    },
    view::View,
};

/// How often, as it can be chosen; the last has the hour that is typed.
const OFTEN: [(&str, &str); 9] = [
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
/// How often the newest point of each machine is proven, in minutes.
const PROVES: [u64; 5] = [1440, 10_080, 20_160, 43_200, 129_600];
/// Whoever writes the rule.
const OWN: &str = "own";

/// A job in the list.
pub(super) struct JobRow {
    pub(super) id: u64,
    pub(super) name: String,
    pub(super) who: String,
    pub(super) machines: usize,
    /// Where that is looked at, and what it is called.
    pub(super) to: (String, String),
    pub(super) replicates: bool,
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
    let Some((words, rest)) = OFTEN.iter().find_map(|(w, r)| Some((w, same(r)?))) else {
        return rule.to_owned();
    };
    match clock(rest) {
        Some(at) => format!("{words} at {at}, {}", job.when.zone),
        None => (*words).to_owned(),
    }
}

/// `22:30` of `;BYHOUR=22;BYMINUTE=30`.
fn clock(rest: &str) -> Option<String> {
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
fn goal_key(to: Goal) -> String {
    match to {
        Goal::Store(id) => id.0.to_string(),
        Goal::Over(way) => format!("over-{}-{}", way.pair.0, way.from.0),
    }
}

fn goal_of(key: &str) -> Option<Goal> {
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
fn goals(estate: &Estate) -> Vec<(String, String)> {
    let stores = estate.stores.values().filter(|s| s.ready);
    let stores = stores.map(|s| {
        let words = format!("store {}, {}", s.name, s.bucket.words());
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
        replicates: job.to.way().is_some(),
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
    sentence: String,
    week: String,
    rows: Vec<InJob>,
    window: Window,
    query: String,
    events: Vec<Line>,
    may: bool,
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
#[template(path = "places/protect/keep_job.html")]
struct KeepFields {
    of: String,
    name: String,
    who: String,
    stores: Vec<(String, String)>,
    store: String,
    replicates: bool,
    oftens: Vec<(String, &'static str)>,
    often: String,
    at: String,
    rule: String,
    zone: String,
    keeps: String,
    quiet: bool,
    proves: u64,
    provens: Vec<(u64, String)>,
}

/// Whether a time of the day belongs to it.
fn daily(rule: &str) -> bool {
    !rule.starts_with("FREQ=HOURLY")
}

/// What the fields make of how often, at what time.
fn ruled(often: &str, at: &str, own: &str, wrong: &mut Vec<Wrong>) -> String {
    if often == OWN {
        return own.to_owned();
    }
    if !daily(often) {
        return often.to_owned();
    }
    let read = || {
        let (hour, minute) = at.trim().split_once(':')?;
        let (hour, minute): (u16, u16) = (hour.parse().ok()?, minute.parse().ok()?);
        (hour < 24 && minute < 60).then_some((hour, minute))
    };
    match read() {
        Some((hour, minute)) => format!("{often};BYHOUR={hour};BYMINUTE={minute}"),
        None => {
            let words = format!("“{at}” is no time of the day; write it as 22:00.");
            wrong.push(("at".to_owned(), words));
            format!("{often};BYHOUR=22;BYMINUTE=0")
        }
    }
}

/// What stands in the fields of a job that is there: how often, at what time, its own rule.
fn unruled(job: &Job) -> (String, String, String) {
    let rule = job.when.rule.as_str();
    for (_, known) in OFTEN {
        if let Some(rest) = rule.strip_prefix(known) {
            match (daily(known), clock(rest)) {
                (true, Some(at)) => return (known.to_owned(), at, String::new()),
                (false, None) if rest.is_empty() => {
                    return (known.to_owned(), "22:00".into(), String::new());
                }
                _ => {}
            }
        }
    }
    (OWN.to_owned(), "22:00".into(), rule.to_owned())
}

pub(crate) fn keep(view: &View, fields: &Fields) -> Filled {
    let mut wrong = Vec::new();
    let of = fields.get("of").parse().ok().map(JobId);
    let had = of.and_then(|id| view.estate.jobs.get(&id));
    let usual = had.map_or_else(
        || ("FREQ=DAILY".to_owned(), "22:00".to_owned(), String::new()),
        |j| unruled(j),
    );
    let often = fields.or("often", &usual.0);
    let at = fields.or("at", &usual.1);
    let own = fields.or("rule", &usual.2);
    let rule = ruled(&often, &at, &own, &mut wrong);
    let zone = fields.or("zone", had.map_or("UTC", |j| &j.when.zone));
    let name = fields.or("name", had.map_or("", |j| &j.name));
    let had_who = had.map_or_else(String::new, |j| String::from(j.who.clone()));
    let who = fields.or("who", &had_who);
    let had_keeps = had.map_or_else(|| "7 days, 4 weeks".to_owned(), |j| j.keeps.to_string());
    let keeps = fields.or("keeps", &had_keeps);
    let quiet = fields.ticked("quiet", had.is_none_or(|j| j.quiet));
    let had_proves = had.and_then(|j| j.proves).map_or(0, |s| s.0 / 60_000);
    let usual_proves = if had.is_some() { had_proves } else { 10_080 };
    let proves: u64 = fields
        .or("proves", &usual_proves.to_string())
        .parse()
        .unwrap_or(0);
    let goals = goals(&view.estate);
    // From the page of a pair: the first of its ways.
    let over = fields.get("over").parse().ok().map(PairId);
    let over = over.and_then(|id| view.estate.pairs.get(&id));
    let over = over.map(|p| goal_key(Goal::Over(p.ways()[0])));
    let usual = had.map(|j| goal_key(j.to));
    let usual = usual
        .or(over)
        .or_else(|| goals.first().map(|(k, _)| k.clone()));
    let to = fields.or("store", &usual.unwrap_or_default());
    let goal = goal_of(&to);
    let replicates = goal.is_some_and(|g| g.way().is_some());
    let mut oftens: Vec<(String, &str)> =
        OFTEN.iter().map(|(w, r)| ((*r).to_owned(), *w)).collect();
    oftens.push((OWN.to_owned(), "by a rule of your own"));
    Filled {
        title: had.map_or_else(|| "Copy by a job".into(), |j| format!("Change job {}", j.name)),
        lead: "Every machine with the labels is copied to where you say when it is due; the first copy of each is of everything, the next ones of what changed. Into a store it is backed up; over a pair a replica of it stays off at the other site.".into(),
        run: if had.is_some() { "Run: change it" } else { "Run: keep it" }.into(),
        danger: false,
        back: of.map_or_else(|| "/protect".to_owned(), |id| format!("/protect/jobs/{}", id.0)),
        fields: render(&KeepFields {
            of: of.map_or_else(String::new, |id| id.0.to_string()),
            name: name.clone(),
            who: who.clone(),
            stores: goals,
            store: to,
            replicates,
            oftens,
            often,
            at,
            rule: own,
            zone: zone.clone(),
            keeps: keeps.clone(),
            quiet,
            proves,
            provens: minutes_to_choose(&PROVES, proves).into_iter().filter(|(m, _)| *m > 0).collect(),
        }),
        ask: Proposal::Jobs(Ask::Keep(Keep {
            job: of,
            name: name.as_str().into(),
            who: who.as_str().into(),
            to: goal,
            rule: rule.as_str().into(),
            zone: zone.as_str().into(),
            keeps: keeps.as_str().into(),
            quiet,
            proves: (proves > 0).then(|| Span::mins(proves.min(5_256_000))),
        })),
        wrong,
    }
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
