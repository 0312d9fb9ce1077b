//! The Field: each cluster a ridgeline, each host a column of the machines stacked on it.

mod ridge;

use crate::frame::{
    AtDesk, Page, Query, Signed,
    attention::{self, Need},
    page, part,
};
use askama::Template;
use ridge::{Colour, Ridge, Ridges};
use rocket::{Route, get, routes};
use zastrugi_core::{
    permits::Act,
    run::{Phase, Run},
    view::View,
};

pub(crate) fn routes() -> Vec<Route> {
    routes![show, live_part]
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
    may_hosts: bool,
    loose: usize,
    query: String,
}

fn run_view(run: &Run) -> RunView {
    let (done, all) = (run.count(Phase::Done), run.steps.len());
    let now = run
        .steps
        .iter()
        .find(|s| s.phase == Phase::Running)
        .map_or("", |s| s.said.as_str());
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

/// What matters now, in a sentence.
fn sentence(view: &View, shown: &Ridges, site: Option<u64>) -> String {
    let hosts: Vec<_> = view
        .estate
        .hosts
        .values()
        .filter(|h| site.is_none_or(|s| h.site.0 == s))
        .collect();
    let down = hosts.iter().filter(|h| !h.accepts_work()).count();
    let steady = hosts.len() - down;
    if hosts.is_empty() {
        return "No host is claimed yet.".into();
    }
    let mut words = format!(
        "{steady} {} steady",
        if steady == 1 { "host" } else { "hosts" }
    );
    if down > 0 {
        words.push_str(&format!(", <b>{down} not</b>"));
    }
    let weak: Vec<_> = shown.weak.iter().map(String::as_str).collect();
    if shown.ridges.is_empty() {
        words.push_str(". No cluster yet.");
    } else if weak.is_empty() {
        words.push_str(
            ". <b>Every cluster keeps room for one host failure</b>, by the plain bound.",
        );
    } else {
        words.push_str(&format!(
            ". <b>{} has no room for a host failure.</b>",
            html(&weak.join(" and "))
        ));
    }
    words
}

fn html(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;")
}

fn build(signed: &Signed, desk: &AtDesk, query: &Query) -> Field {
    let view = desk.look();
    let colour = if query.0.get("colour") == "load" {
        Colour::Load
    } else {
        Colour::Tier
    };
    let reserves = desk.reserves();
    let only = query.0.get("cluster").parse().ok();
    let shown = ridge::ridges(&view, &reserves, (signed.site, only), colour);
    Field {
        sentence: sentence(&view, &shown, signed.site),
        needs: attention::needs(&view, &reserves, signed.site),
        running: view.estate.runs.values().map(|r| run_view(r)).collect(),
        colour: if matches!(colour, Colour::Load) {
            "load"
        } else {
            "tier"
        },
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
