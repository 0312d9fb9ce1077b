//! The Logbook: runs with live steps and the assessment as it was, events, CSV.

mod axis;
mod correct;
mod events;
mod failures;
mod lanes;
pub(crate) mod lately;
mod run;

use crate::frame::{AtDesk, Page, Query, Signed, ago, page as whole, part, words::run_glyph};
use askama::Template;
use rocket::{Route, get, routes};
use zastrugi_core::ids::RunId;
use zastrugi_engine::RunFilter;

pub(crate) fn routes() -> Vec<Route> {
    routes![
        show,
        runs_part,
        run::show,
        run::run_part,
        run::answer,
        events::show,
        events::csv,
        failures::show_all,
        failures::list_part,
        failures::show,
        failures::story_part
    ]
}

struct RunRow {
    id: u64,
    glyph: String,
    word: &'static str,
    title: String,
    by: String,
    steps: String,
    began: String,
    took: String,
}

#[derive(Template)]
#[template(path = "places/logbook/runs.html")]
struct Runs {
    rows: Vec<RunRow>,
    query: String,
    q: String,
    state: String,
    states: [(&'static str, &'static str); 6],
    who: String,
    filtered: bool,
    next: Option<String>,
}

const WINDOW: i64 = 50;
/// As they are stored, and in words.
const STATES: [(&str, &str); 6] = [
    ("", "any state"),
    ("running", "running"),
    ("needs_you", "needs you"),
    ("done", "done"),
    ("cancelled", "cancelled"),
    ("cancelling", "being cancelled"),
];

async fn build(desk: &AtDesk, query: &Query) -> Result<Runs, crate::frame::Problem> {
    let before = query.0.get("before").parse().ok().map(RunId);
    let filter = RunFilter {
        text: query.0.get("q").into(),
        state: query.0.get("state").into(),
        who: query.0.get("who").into(),
    };
    let runs = desk.find_runs(&filter, before, WINDOW).await?;
    let now = desk.now();
    let full = i64::try_from(runs.len()).unwrap_or(0) == WINDOW;
    let next = runs
        .last()
        .filter(|_| full)
        .map(|r| query.0.with("before", &r.id.0.to_string()));
    let rows = runs
        .iter()
        .map(|r| RunRow {
            id: r.id.0,
            glyph: run_glyph(r.state),
            word: r.state.word(),
            title: r.title.clone(),
            by: r.by.name.clone(),
            steps: match r.tally.all() {
                0 => "at once".into(),
                all => format!("{} of {all}", r.tally.done),
            },
            began: ago(now, r.began),
            took: r
                .ended
                .filter(|_| r.tally.all() > 0)
                .map_or_else(String::new, |end| end.since(r.began).to_string()),
        })
        .collect();
    Ok(Runs {
        rows,
        query: query.0.with("", ""),
        filtered: ["q", "state", "who"]
            .iter()
            .any(|n| !query.0.get(n).is_empty()),
        q: filter.text,
        state: filter.state,
        states: STATES,
        who: filter.who,
        next,
    })
}

#[get("/logbook")]
async fn show(signed: Signed, desk: &AtDesk, query: Query) -> Page {
    let runs = build(desk, &query).await?;
    whole(&signed, desk, "logbook", "Logbook", &runs)
}
#[get("/logbook/part")]
async fn runs_part(_signed: Signed, desk: &AtDesk, query: Query) -> Page {
    part(&build(desk, &query).await?)
}
