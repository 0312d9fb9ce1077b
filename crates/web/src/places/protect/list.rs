//! All promises: a sentence, how each clause stands, the pledges, and machines × clauses a window at a time.

use super::{
    clauses::{Bars, key},
    glyph_of,
    jobs::{self, JobRow},
    key_of,
    pairs::{self, PairRow},
    plans::{self, PlanRow},
    stores::StoreRow,
    week::Week,
};
use crate::frame::{AtDesk, Page, Query, Signed, Window, page as whole, part, sheet::render};
use askama::Template;
use rocket::get;
use std::{
    cmp::Reverse,
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
};
use zastrugi_core::{
    estate::{Estate, Machine, Pledge},
    ids::PledgeId,
    moment::Moment,
    permits::Act,
    pledges::{Brief, CLAUSES, Promise, Promises, Sort, Standing},
};

pub(super) struct Cell {
    pub(super) glyph: &'static str,
    pub(super) word: &'static str,
    pub(super) key: &'static str,
}

/// One machine: what weighs most, and how each clause stands.
pub(super) struct Row {
    pub(super) id: u64,
    pub(super) name: String,
    pub(super) pledges: String,
    /// Nothing where all is kept.
    pub(super) why: String,
    pub(super) cells: Vec<Option<Cell>>,
}

impl Row {
    /// Judged now: what it says of ages is as of this moment.
    pub(super) fn of(estate: &Estate, m: &Machine, columns: &[Sort], now: Moment) -> Option<Row> {
        let promise = Promise::of(estate, m, now)?;
        let cell = |sort: &Sort| {
            promise.of_sort(*sort).map(|j| Cell {
                glyph: glyph_of(j.standing),
                word: j.standing.word(),
                key: key(*sort),
            })
        };
        let names: Vec<&str> = promise.pledges.iter().map(|(_, n)| n.as_str()).collect();
        let worst = promise.worst().filter(|j| j.standing != Standing::Kept);
        Some(Row {
            id: m.id.0,
            name: m.name.clone(),
            pledges: names.join(", "),
            why: worst.map_or_else(String::new, |j| j.why.clone()),
            cells: columns.iter().map(cell).collect(),
        })
    }
}

struct PledgeRow {
    id: u64,
    name: String,
    to: String,
    parts: Vec<(&'static str, String)>,
}

#[derive(Template)]
#[template(path = "places/protect/list.html", blocks = ["body"])]
struct List {
    sentence: String,
    pledges: Vec<PledgeRow>,
    stores: Vec<StoreRow>,
    pairs: Vec<PairRow>,
    plans: Vec<PlanRow>,
    /// Reports of plans that are gone.
    left: Vec<(u64, String, String)>,
    jobs: Vec<JobRow>,
    week: String,
    may_store: bool,
    may_plan: bool,
    bars: String,
    rows: Vec<Row>,
    columns: Vec<&'static str>,
    window: Window,
    query: String,
    q: String,
    pledge: u64,
    standing: String,
    standings: Vec<(&'static str, &'static str)>,
    clause: String,
    clauses: Vec<(&'static str, &'static str)>,
    filtered: bool,
    may: bool,
}

/// Sorts of clauses that any pledge has.
pub(super) fn columns<'a>(pledges: impl Iterator<Item = &'a Arc<Pledge>>) -> Vec<Sort> {
    let all: BTreeSet<Sort> = pledges
        .flat_map(|p| p.demands())
        .map(|d| d.sort())
        .collect();
    all.into_iter().collect()
}

pub(crate) fn at_site(estate: &Estate, m: &Machine, site: Option<u64>) -> bool {
    site.is_none_or(|wanted| estate.site_of(m).is_some_and(|s| s.0 == wanted))
}

/// Names in the sentence; more are counted.
const NAMED: usize = 3;

/// “41 of 68 machines have a pledge; of 2 it is broken: payroll, crew-portal.”
fn sentence(estate: &Estate, here: &[&Arc<Brief>], machines: usize) -> String {
    let of = |standing| {
        here.iter()
            .filter(|p| p.standing() == standing)
            .copied()
            .collect::<Vec<_>>()
    };
    let head = match (machines, here.len()) {
        (_, 0) => return "Nothing is promised to any machine yet.".into(),
        (all, n) => format!("{n} of {all} machines have a pledge"),
    };
    let named = |of: &[&Arc<Brief>]| {
        let names = of.iter().filter_map(|p| estate.machines.get(&p.machine));
        let mut names: Vec<&str> = names.map(|m| m.name.as_str()).collect();
        names.sort_unstable();
        let more = names.len().saturating_sub(NAMED);
        names.truncate(NAMED);
        match more {
            0 => names.join(", "),
            n => format!("{} and {n} more", names.join(", ")),
        }
    };
    let said = [
        (
            Standing::Broken,
            "of one it is broken",
            "of {n} it is broken",
        ),
        (
            Standing::AtRisk,
            "of one it is at risk",
            "of {n} it is at risk",
        ),
        (
            Standing::Unchecked,
            "of one nothing tells",
            "of {n} nothing tells",
        ),
    ];
    let parts: Vec<String> = said
        .into_iter()
        .filter_map(|(standing, one, many)| {
            let all = of(standing);
            let words = match all.len() {
                0 => return None,
                1 => one.to_owned(),
                n => many.replace("{n}", &n.to_string()),
            };
            Some(format!("{words}: {}", named(&all)))
        })
        .collect();
    match parts.is_empty() {
        true => format!("{head}; every one is kept."),
        false => format!("{head}; {}.", parts.join("; ")),
    }
}

fn pledge_row(pledge: &Pledge, of: Option<&BTreeMap<Standing, usize>>) -> PledgeRow {
    let counts = |s: Standing| of.and_then(|o| o.get(&s)).copied();
    let parts = Standing::ALL.into_iter().rev();
    PledgeRow {
        id: pledge.id.0,
        name: pledge.name.clone(),
        to: pledge
            .to
            .as_ref()
            .map_or_else(String::new, ToString::to_string),
        parts: parts
            .filter_map(|s| Some((glyph_of(s), format!("{} {}", counts(s)?, s.word()))))
            .collect(),
    }
}

fn pledge_rows(estate: &Estate, here: &[&Arc<Brief>]) -> Vec<PledgeRow> {
    let mut counts: BTreeMap<PledgeId, BTreeMap<Standing, usize>> = BTreeMap::new();
    for promise in here {
        for (id, name) in promise.pledges() {
            let standing = promise.by(name);
            *counts.entry(*id).or_default().entry(standing).or_default() += 1;
        }
    }
    let mut rows: Vec<_> = estate
        .pledges
        .values()
        .map(|p| pledge_row(p, counts.get(&p.id)))
        .collect();
    rows.sort_by(|a, b| a.name.cmp(&b.name));
    rows
}

/// Everything that the filters leave: the worst first, then by name.
fn filtered<'a>(estate: &'a Estate, here: &[&Arc<Brief>], query: &Query) -> Vec<&'a Arc<Machine>> {
    let fields = &query.0;
    let (q, standing) = (fields.get("q").to_lowercase(), fields.get("standing"));
    let pledge = fields.get("pledge").parse().ok().map(PledgeId);
    let sort = CLAUSES
        .into_iter()
        .find(|s| key(*s) == fields.get("clause"));
    let fits = |p: &&&Arc<Brief>| {
        let judged = match sort {
            Some(sort) => p.of_sort(sort),
            None => Some(p.standing()),
        };
        judged.is_some_and(|s| standing.is_empty() || key_of(s) == standing)
            && pledge.is_none_or(|id| p.has(id))
    };
    let found = here.iter().filter(fits).filter_map(|p| {
        let m = estate.machines.get(&p.machine)?;
        (q.is_empty() || m.name.contains(&q)).then_some((p.standing(), m))
    });
    let mut all: Vec<_> = found.collect();
    all.sort_by(|a, b| (Reverse(a.0), &a.1.name).cmp(&(Reverse(b.0), &b.1.name)));
    all.into_iter().map(|(_, m)| m).collect()
}

fn build(signed: &Signed, desk: &AtDesk, query: &Query) -> List {
    let view = desk.look();
    let estate = &view.estate;
    let promises: Arc<Promises> = desk.promises();
    let here = |id| {
        estate
            .machines
            .get(&id)
            .is_some_and(|m| at_site(estate, m, signed.site))
    };
    let here: Vec<&Arc<Brief>> = promises.iter().filter(|p| here(p.machine)).collect();
    let live = estate.machines.values().filter(|m| m.deleted.is_none());
    let machines = live.filter(|m| at_site(estate, m, signed.site)).count();
    let columns = columns(estate.pledges.values());
    let found = filtered(estate, &here, query);
    let (window, shown) = Window::of("/protect", query, found.len());
    let rows = found[shown]
        .iter()
        .filter_map(|m| Row::of(estate, m, &columns, desk.now()));
    let named = ["q", "pledge", "standing", "clause"];
    let standings = Standing::ALL
        .into_iter()
        .rev()
        .map(|s| (key_of(s), s.word()));
    List {
        sentence: sentence(estate, &here, machines),
        pledges: pledge_rows(estate, &here),
        stores: super::stores::rows(estate),
        pairs: pairs::rows(&view, desk.now()),
        plans: plans::rows(desk),
        left: plans::left(estate),
        jobs: jobs::rows(estate),
        week: render(&Week::of(&view, desk.now(), None)),
        may_store: signed.may(Act::Storage),
        may_plan: signed.may(Act::Plans),
        bars: render(&Bars::of(here.iter().map(|p| &***p), "/protect?")),
        rows: rows.collect(),
        columns: columns.iter().map(|s| s.word()).collect(),
        window,
        query: query.0.with("", ""),
        q: query.0.get("q").into(),
        pledge: query.0.get("pledge").parse().unwrap_or(0),
        standing: query.0.get("standing").into(),
        standings: std::iter::once(("", "however it stands"))
            .chain(standings)
            .collect(),
        clause: query.0.get("clause").into(),
        clauses: std::iter::once(("", "any clause"))
            .chain(columns.iter().map(|s| (key(*s), s.word())))
            .collect(),
        filtered: named.iter().any(|n| !query.0.get(n).is_empty()),
        may: signed.may(Act::Machines),
    }
}

#[get("/protect")]
pub(crate) fn show(signed: Signed, desk: &AtDesk, query: Query) -> Page {
    let body = build(&signed, desk, &query);
    whole(&signed, desk, "protect", "Protect", &body)
}

#[get("/protect/part")]
pub(crate) fn list_part(signed: Signed, desk: &AtDesk, query: Query) -> Page {
    part(&build(&signed, desk, &query).as_body())
}
