//! The sheet by which a job is made or changed.

use super::jobs::{OFTEN, clock, goal_key, goal_of, goals};
use crate::frame::{
    Fields,
    consequences::Wrong,
    fields::minutes_to_choose,
    sheet::{Filled, render},
};
use askama::Template;
use std::sync::Arc;
use zastrugi_core::{
    estate::{Goal, Habits, Job, Order},
    ids::{JobId, PairId},
    moment::{Moment, Span},
    recurrence::instant,
    rooms::{
        Proposal,
        jobs::{Ask, How, Keep},
    },
    view::View,
};

/// How often the newest point of each machine is proven, in minutes.
const PROVES: [u64; 5] = [1440, 10_080, 20_160, 43_200, 129_600];
/// How long what was copied stays beside its machine, in minutes.
const LOCAL: [u64; 6] = [60, 240, 720, 1440, 4320, 10_080];
/// How long points of a copy that is made once stay, in minutes.
const WANTED: [u64; 6] = [1440, 10_080, 43_200, 131_040, 525_600, 1_576_800];
/// Whoever writes the rule.
const OWN: &str = "own";
/// Only once.
const ONCE: &str = "once";
const ONCE_RULE: &str = "FREQ=DAILY;COUNT=1";

#[derive(Template)]
#[template(path = "places/protect/keep_job.html")]
struct KeepFields {
    of: String,
    name: String,
    who: String,
    stores: Vec<(String, String)>,
    store: String,
    oftens: Vec<(String, &'static str)>,
    often: String,
    at: String,
    rule: String,
    zone: String,
    keeps: String,
    quiet: bool,
    proves: u64,
    provens: Vec<(u64, String)>,
    /// Once: how long its points stay.
    wanted: u64,
    wanteds: Vec<(u64, String)>,
    more: Option<More>,
}

/// What most jobs leave as it is.
struct More {
    cap: String,
    order: &'static str,
    orders: Vec<(&'static str, &'static str)>,
    whole: String,
    leaves_out: bool,
    together: String,
    local: u64,
    locals: Vec<(u64, String)>,
}

/// What was chosen, after a first choice that is none.
fn choices(minutes: &[u64], chosen: u64) -> Vec<(u64, String)> {
    let all = minutes_to_choose(minutes, chosen).into_iter();
    all.filter(|(m, _)| *m > 0).collect()
}

fn minutes(fields: &Fields, name: &str, had: Option<Span>) -> u64 {
    let usual = had.map_or(0, |s| s.0 / 60_000).to_string();
    let chosen: u64 = fields.or(name, &usual).parse().unwrap_or(0);
    chosen.min(5_270_400)
}

fn span(minutes: u64) -> Option<Span> {
    (minutes > 0).then(|| Span::mins(minutes))
}

/// What is shown where somebody wants to say more, and what follows either way.
fn habits(fields: &Fields, had: &Habits) -> (Option<More>, How) {
    let usual = Habits {
        wanted: None,
        ..had.clone()
    };
    let more = fields.ticked("more", usual != Habits::default());
    let cap = fields.or("cap", &had.cap.to_string());
    let whole = fields.or(
        "whole",
        &had.whole.map_or_else(String::new, |o| o.to_string()),
    );
    let chosen = fields.or("order", had.order.key());
    let orders = [Order::Number, Order::Longest, Order::Tier];
    let order = orders
        .into_iter()
        .find(|o| o.key() == chosen)
        .unwrap_or_default();
    // A box that is not shown is not unticked.
    let leaves_out = match fields.has("sent") && !fields.has("cap") {
        true => had.leaves_out,
        false => fields.ticked("leaves_out", had.leaves_out),
    };
    let together = fields.or("together", had.together.as_deref().unwrap_or(""));
    let local = minutes(fields, "local", had.local);
    let how = How {
        cap: cap.as_str().into(),
        leaves_out,
        together: together.as_str().into(),
        order,
        whole: whole.as_str().into(),
        local: span(local),
        wanted: None,
    };
    let shown = more.then(|| More {
        cap,
        order: order.key(),
        orders: orders.map(|o| (o.key(), o.words())).to_vec(),
        whole,
        leaves_out,
        together,
        local,
        locals: choices(&LOCAL, local),
    });
    (shown, how)
}

/// Whether a time of the day belongs to it.
fn daily(rule: &str) -> bool {
    rule != ONCE && !rule.starts_with("FREQ=HOURLY")
}

/// What the fields make of how often, at what time.
fn ruled(often: &str, at: &str, own: &str, wrong: &mut Vec<Wrong>) -> String {
    match often {
        OWN => return own.to_owned(),
        ONCE => return ONCE_RULE.to_owned(),
        _ => {}
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

/// When a job that is due once is.
fn begins((often, at, zone): (&str, &str, &str), wrong: &mut Vec<Wrong>) -> Option<Moment> {
    if often != ONCE {
        return None;
    }
    match instant(at, zone) {
        Ok(at) => Some(at),
        Err(words) => {
            wrong.push(("at".to_owned(), words));
            None
        }
    }
}

/// What stands in the fields of a job that is there: how often, at what time, its own rule.
fn unruled(job: &Job) -> (String, String, String) {
    let rule = job.when.rule.as_str();
    if rule == ONCE_RULE {
        return (
            ONCE.to_owned(),
            job.when.local(job.when.begins),
            String::new(),
        );
    }
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

/// Where to, as it can be chosen, and what is chosen.
fn place(view: &View, fields: &Fields, had: Option<&Arc<Job>>) -> (Vec<(String, String)>, String) {
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
    (goals, to)
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
    let begins = begins((&often, &at, &zone), &mut wrong);
    let usual_habits = had.map(|j| j.how.clone()).unwrap_or_default();
    let (more, how) = habits(fields, &usual_habits);
    let wanted = match often == ONCE {
        true => minutes(fields, "wanted", usual_habits.wanted),
        false => 0,
    };
    let name = fields.or("name", had.map_or("", |j| &j.name));
    let had_who = had.map_or_else(String::new, |j| String::from(j.who.clone()));
    let who = fields.or("who", &had_who);
    let had_keeps = had.map_or_else(|| "7 days, 4 weeks".to_owned(), |j| j.keeps.to_string());
    let keeps = fields.or("keeps", &had_keeps);
    let quiet = fields.ticked("quiet", had.is_none_or(|j| j.quiet));
    let usual_proves = had.map_or(Some(Span::days(7)), |j| j.proves);
    let proves = minutes(fields, "proves", usual_proves);
    let (goals, to) = place(view, fields, had);
    let goal = goal_of(&to);
    let mut oftens: Vec<(String, &str)> =
        OFTEN.iter().map(|(w, r)| ((*r).to_owned(), *w)).collect();
    oftens.push((ONCE.to_owned(), "once, at a time"));
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
            oftens,
            often,
            at,
            rule: own,
            zone: zone.clone(),
            keeps: keeps.clone(),
            quiet,
            proves,
            provens: choices(&PROVES, proves),
            wanted,
            wanteds: choices(&WANTED, wanted),
            more,
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
            proves: span(proves),
            begins,
            how: How {
                wanted: span(wanted),
                ..how
            },
        })),
        wrong,
    }
}
