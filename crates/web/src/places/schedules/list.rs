//! All schedules, with what each took last and takes next.

use crate::frame::{AtDesk, Page, Signed, page as whole, part, time};
use askama::Template;
use rocket::get;
use std::sync::Arc;
use zastrugi_core::{estate::Schedule, permits::Act};

struct Row {
    id: u64,
    name: String,
    label: String,
    machines: usize,
    every: String,
    keeps: String,
    last: String,
    next: String,
    paused: bool,
}

#[derive(Template)]
#[template(path = "places/schedules/list.html", blocks = ["body"])]
struct List {
    rows: Vec<Row>,
    may: bool,
}

fn build(signed: &Signed, desk: &AtDesk) -> List {
    let view = desk.look();
    let row = |s: &Arc<Schedule>| Row {
        id: s.id.0,
        name: s.name.clone(),
        label: s.label.clone(),
        machines: view.estate.scheduled(s).len(),
        every: s.every.to_string(),
        keeps: s.keeps.to_string(),
        last: s.last.map_or_else(|| "none yet".into(), time),
        next: time(s.next()),
        paused: s.paused,
    };
    let mut rows: Vec<Row> = view.estate.schedules.values().map(row).collect();
    rows.sort_by(|a, b| a.name.cmp(&b.name));
    List {
        rows,
        may: signed.may(Act::Machines),
    }
}

#[get("/schedules")]
pub(crate) fn show(signed: Signed, desk: &AtDesk) -> Page {
    let body = build(&signed, desk);
    whole(&signed, desk, "machines", "Snapshot schedules", &body)
}

#[get("/schedules/part")]
pub(crate) fn list_part(signed: Signed, desk: &AtDesk) -> Page {
    part(&build(&signed, desk).as_body())
}
