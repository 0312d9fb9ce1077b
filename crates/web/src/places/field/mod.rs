//! The Field: each cluster a ridgeline, each host a column of the machines stacked on it.

mod picture;
mod ridge;

use crate::frame::{
    AtDesk, Page, Query, Signed,
    attention::{self, Need},
    page, part,
};
use askama::Template;
use ridge::{Colour, Ridge, Ridges};
use rocket::{Route, get, routes, serde::json::Json};
use serde_json::{Value, json};
use std::{collections::BTreeMap, sync::Arc};
use zastrugi_core::{
    availability::{Case, Left, MEMORY, Survival},
    estate::{Cause, Condition, Estate, Machine, Outages},
    ids::{HostId, SiteId},
    permits::Act,
    runs::{Phase, Run},
    units::Bytes,
    view::View,
};

pub(crate) fn routes() -> Vec<Route> {
    routes![show, live_part, would]
}

struct RunView {
    link: String,
    title: String,
    share: u64,
    words: String,
}

#[derive(Template)]
#[template(path = "places/field/field.html")]
struct Field {
    sentence: String,
    ridges: Vec<Ridge>,
    /// Clusters for which there is no room on this page.
    rest: Vec<(u64, String)>,
    needs: std::sync::Arc<Vec<Need>>,
    running: Vec<RunView>,
    colour: &'static str,
    others: Vec<&'static str>,
    may_hosts: bool,
    loose: usize,
    query: String,
}

fn run_view(view: &View, run: &Run) -> RunView {
    let (done, all) = run.progress();
    let now = run.in_phase(Phase::Running).next();
    let now = now.map_or("", |(n, _)| view.said(run, n));
    RunView {
        link: format!("/logbook/runs/{}", run.id.0),
        title: run.title.clone(),
        share: u64::try_from(done * 300 / all.max(1))
            .unwrap_or(300)
            .max(10),
        words: format!(
            "{done} of {all} steps done{}{now}",
            if now.is_empty() { "" } else { " · " }
        ),
    }
}

/// What matters now, in a sentence: what is lost first.
fn sentence(view: &View, shown: &Ridges, outages: &Outages, site: Option<u64>) -> String {
    let estate = &view.estate;
    let hosts: Vec<_> = estate
        .hosts
        .values()
        .filter(|h| site.is_none_or(|s| h.site.0 == s))
        .collect();
    if hosts.is_empty() {
        return "No host is claimed yet.".into();
    }
    let steady = hosts.iter().filter(|h| estate.is_steady(h)).count();
    let mut words = format!(
        "{steady} {} steady",
        if steady == 1 { "host" } else { "hosts" }
    );
    let lost: Vec<_> = hosts
        .iter()
        .filter(|h| h.is_gone() && h.maintenance.is_none())
        .map(|h| h.name.as_str())
        .collect();
    let cared = hosts.iter().filter(|h| h.maintenance.is_some()).count();
    if cared > 0 {
        words.push_str(&format!(", {cared} in maintenance"));
    }
    let coming = hosts
        .iter()
        .filter(|h| h.condition == Condition::Claiming && h.maintenance.is_none())
        .count();
    if coming > 0 {
        words.push_str(&format!(", {coming} being taken over"));
    }
    let others = hosts.len() - steady - lost.len() - cared - coming;
    if others > 0 {
        words.push_str(&format!(", {others} not"));
    }
    let lost = match lost.as_slice() {
        [] => String::new(),
        [one] => format!("<b>{} is lost.</b> ", html(one)),
        [one, other] => format!("<b>{} and {} are lost.</b> ", html(one), html(other)),
        many => format!("<b>{} hosts are lost.</b> ", many.len()),
    };
    let clusters = if shown.ridges.is_empty() {
        "No cluster yet.".into()
    } else if shown.weak.is_empty() {
        "<b>Every cluster survives the host failures that it must.</b>".to_owned()
    } else {
        let weak: Vec<_> = shown.weak.iter().map(String::as_str).collect();
        format!(
            "<b>{} would not survive what it must.</b>",
            html(&weak.join(" and "))
        )
    };
    format!(
        "{lost}{}{words}. {clusters}",
        storage_lost(estate, outages, site)
    )
}

/// What hosts have lost beneath them, and what became of machines.
fn storage_lost(estate: &Estate, outages: &Outages, site: Option<u64>) -> String {
    let here = |s: SiteId| site.is_none_or(|site| s.0 == site);
    let arrays = outages.all.iter().filter_map(|o| match &o.cause {
        Cause::Array(id) => estate.arrays.get(id).filter(|a| here(a.site)),
        Cause::Portal(..) | Cause::Cut(..) => None,
    });
    let mut words: String = arrays
        .map(|a| format!("<b>{} is lost.</b> ", html(&a.name)))
        .collect();
    let of_site = |m: &&Arc<Machine>| {
        let cluster = m.cluster.and_then(|c| estate.clusters.get(&c));
        cluster.is_none_or(|c| here(c.site))
    };
    let known = |m: &&Arc<Machine>| estate.unknown(m).is_none();
    let counts = [
        (
            estate
                .machines_paused()
                .filter(of_site)
                .filter(known)
                .count(),
            "halted",
        ),
        (
            estate.machines_fallen().filter(of_site).count(),
            "off that should be on",
        ),
    ];
    for (n, what) in counts {
        match n {
            0 => {}
            1 => words.push_str(&format!("<b>1 machine is {what}.</b> ")),
            n => words.push_str(&format!("<b>{n} machines are {what}.</b> ")),
        }
    }
    words
}

fn html(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;")
}

fn build(signed: &Signed, desk: &AtDesk, query: &Query) -> Field {
    let view = desk.look();
    let colour = Colour::of(query.0.get("colour"));
    let promises = desk.promises();
    let (_, headrooms) = desk.headrooms();
    let only = query.0.get("cluster").parse().ok();
    let shown = ridge::ridges(&view, &headrooms, (signed.site, only), (colour, &promises));
    let (needs, outages) = attention::needs(desk, signed.site);
    Field {
        sentence: sentence(&view, &shown, &outages, signed.site),
        needs,
        running: view.runs.iter().map(|r| run_view(&view, r)).collect(),
        colour: colour.word(),
        others: Colour::ALL
            .into_iter()
            .filter(|c| *c != colour)
            .map(Colour::word)
            .collect(),
        may_hosts: signed.may(Act::Hosts),
        loose: view
            .estate
            .hosts
            .values()
            .filter(|h| h.cluster.is_none())
            .count(),
        query: query.0.with("", ""),
        rest: shown.rest,
        ridges: shown.ridges,
    }
}

#[get("/")]
fn show(signed: Signed, desk: &AtDesk, query: Query) -> Page {
    page(
        &signed,
        desk,
        "field",
        "Field",
        &build(&signed, desk, &query),
    )
}

#[get("/field/part")]
fn live_part(signed: Signed, desk: &AtDesk, query: Query) -> Page {
    part(&build(&signed, desk, &query))
}

/// Where a host's machines would go if it failed now: for the picture, and in words.
#[get("/field/would/<host>")]
fn would(_signed: Signed, desk: &AtDesk, host: u64) -> Option<Json<Value>> {
    let estate = desk.look().estate;
    let host = estate.hosts.get(&HostId(host))?;
    let (_, all) = desk.headrooms();
    let answer = &all.get(&host.cluster?)?.answer;
    let row = answer
        .matrix
        .hosts()
        .chain(answer.matrix.happened())
        .find(|r| {
            let failed = r.failure.hosts.first();
            failed.is_some_and(|h| answer.table.hosts[*h].id == Some(host.id))
        })?;
    let mut shares: BTreeMap<u64, f64> = BTreeMap::new();
    for (machine, to) in &row.failure.restarted {
        let to = answer.table.hosts[*to]
            .id
            .and_then(|id| estate.hosts.get(&id))?;
        let held = Bytes(answer.table.machines[*machine].needs[MEMORY]);
        *shares.entry(to.id.0).or_default() += held.share_of(to.hardware.memory);
    }
    Some(Json(json!({"words": words(answer, row), "to": shares})))
}

fn words(answer: &Survival, row: &Case) -> String {
    let failure = &row.failure;
    let name = |l: &Left| answer.table.machines[l.machine].name.clone();
    let (host, places) = (row.domain.words(), failure.restarted.len());
    let mut words = if row.happened {
        format!("{host} has failed: {places} have a place elsewhere")
    } else {
        format!("If {host} fails: {places} have a place elsewhere")
    };
    for (left, what) in [
        (&failure.not_restarted, "find no room"),
        (&failure.lost, "are lost until somebody acts"),
    ] {
        if !left.is_empty() {
            let names: Vec<_> = left.iter().take(3).map(name).collect();
            let more = if left.len() > 3 { ", …" } else { "" };
            words.push_str(&format!(
                "; {} {what} ({}{more})",
                left.len(),
                names.join(", ")
            ));
        }
    }
    if !failure.restarted.is_empty() {
        words.push_str(&format!("; about {}", row.time));
    }
    words + "."
}
