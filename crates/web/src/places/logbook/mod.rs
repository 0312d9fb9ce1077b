//! The Logbook: runs with live steps and the assessment as it was, events, CSV.

mod events;
pub(crate) mod lately;
mod run;

use crate::frame::{AtDesk, Page, Query, Signed, ago, page as whole, part, words::run_glyph};
use askama::Template;
use rocket::{Route, get, routes};
use zastrugi_core::ids::RunId;

pub(crate) fn routes() -> Vec<Route> {
    routes![
        show,
        runs_part,
        run::show,
        run::run_part,
        run::answer,
        events::show,
        events::csv
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
    next: Option<u64>,
}

const WINDOW: i64 = 50;

async fn build(desk: &AtDesk, query: &Query) -> Result<Runs, crate::frame::Problem> {
    let before = query.0.get("before").parse().ok().map(RunId);
    let runs = desk.runs(before, WINDOW).await?;
    let now = desk.now();
    let full = i64::try_from(runs.len()).unwrap_or(0) == WINDOW;
    let next = runs.last().filter(|_| full).map(|r| r.id.0);
    let rows = runs
        .iter()
        .map(|r| RunRow {
            id: r.id.0,
            glyph: run_glyph(r.state),
            word: r.state.word(),
            title: r.title.clone(),
            by: r.by.name.clone(),
            steps: format!("{} of {}", r.tally.done, r.tally.all()),
            began: ago(now, r.began),
            took: r
                .ended
                .map_or_else(String::new, |end| end.since(r.began).to_string()),
        })
        .collect();
    Ok(Runs {
        rows,
        query: query.0.with("", ""),
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
