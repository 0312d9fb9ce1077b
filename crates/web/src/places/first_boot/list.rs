//! All first-boot documents.

use super::{newest, words};
use crate::frame::{AtDesk, Page, Signed, page as whole, part};
use askama::Template;
use rocket::get;
use std::collections::BTreeMap;
use zastrugi_core::{ids::FirstBootId, permits::Act};

struct Row {
    id: u64,
    name: String,
    newest: u32,
    host_name: String,
    words: String,
    told: usize,
    failed: usize,
}

#[derive(Template)]
#[template(path = "places/first_boot/list.html", blocks = ["body"])]
struct List {
    rows: Vec<Row>,
    may: bool,
}

fn build(signed: &Signed, desk: &AtDesk) -> List {
    let view = desk.look();
    // Told, and of those the ones where something was not done.
    let mut counts: BTreeMap<FirstBootId, (usize, usize)> = BTreeMap::new();
    for booted in view
        .estate
        .machines
        .values()
        .filter_map(|m| m.first_boot.as_ref())
    {
        let count = counts.entry(booted.document).or_default();
        count.0 += 1;
        count.1 += usize::from(
            booted
                .applied
                .as_ref()
                .is_some_and(|a| !a.failed.is_empty()),
        );
    }
    let row = |d: &zastrugi_core::estate::FirstBoot| {
        let (told, failed) = counts.get(&d.id).copied().unwrap_or_default();
        Row {
            id: d.id.0,
            name: d.name.clone(),
            newest: newest(d),
            host_name: d.newest().map_or_else(String::new, |v| v.host_name.clone()),
            words: d.newest().map_or_else(String::new, words),
            told,
            failed,
        }
    };
    let mut rows: Vec<Row> = view.estate.first_boots.values().map(|d| row(d)).collect();
    rows.sort_by(|a, b| a.name.cmp(&b.name));
    List {
        rows,
        may: signed.may(Act::Machines),
    }
}

#[get("/first-boot")]
pub(crate) fn show(signed: Signed, desk: &AtDesk) -> Page {
    let body = build(&signed, desk);
    whole(&signed, desk, "machines", "First boot", &body)
}

#[get("/first-boot/part")]
pub(crate) fn list_part(signed: Signed, desk: &AtDesk) -> Page {
    part(&build(&signed, desk).as_body())
}
