//! First-boot documents: a list, a page with the versions and what came of them, what one machine reads, and the sheets
//! that keep and remove them.

mod keep;
mod list;
mod page;
mod reads;
mod remove;

use crate::frame::sheet::Sheet;
use rocket::{Route, routes};
use zastrugi_core::{
    estate::{Edition, FirstBoot, Machine},
    first_boot::Told,
    ids::FirstBootId,
    permits::Act,
    view::View,
};

/// What can be changed from here.
pub(crate) const SHEETS: &[Sheet] = &[
    Sheet::new("keep-first-boot", Act::Machines, "machines", keep::fill)
        .merging()
        .hashing(),
    Sheet::new("remove-first-boot", Act::Machines, "machines", remove::fill),
];

pub(crate) fn routes() -> Vec<Route> {
    routes![
        list::show,
        list::list_part,
        page::show,
        page::page_part,
        reads::show
    ]
}

/// All of them by name, with their newest versions, for choosing one.
pub(super) fn choices(view: &View) -> Vec<(u64, String)> {
    let all = view.estate.first_boots.values();
    let mut all: Vec<_> = all
        .map(|d| {
            (
                d.id.0,
                format!("{} {}", d.name, d.newest().map_or(0, |v| v.number)),
            )
        })
        .collect();
    all.sort_by(|a, b| a.1.cmp(&b.1));
    all
}

/// Machines whose guests were told any version of it, by name.
fn told(view: &View, id: FirstBootId) -> Vec<&Machine> {
    let all = view.estate.machines.values().map(|m| &**m);
    let mut all: Vec<_> = all
        .filter(|m| m.first_boot.as_ref().is_some_and(|b| b.document == id))
        .collect();
    all.sort_by(|a, b| a.name.cmp(&b.name));
    all
}

/// What came of it at a machine: glyph, words.
pub(super) fn outcome(machine: &Machine) -> (&'static str, String) {
    let applied = machine.first_boot.as_ref().and_then(|b| b.applied.as_ref());
    match applied {
        None => ("unknown", "its guest has not said yet".to_owned()),
        Some(a) if a.failed.is_empty() => ("steady", "all of it is done".to_owned()),
        Some(a) => ("mind", format!("not done: {}", a.failed.join("; "))),
    }
}

/// A version in a few words.
fn words(edition: &Edition) -> String {
    let told = Told {
        host_name: String::new(),
        user: edition.user.clone(),
        dns: edition.dns.clone(),
        search: edition.search.clone(),
        zone: edition.zone.clone(),
        commands: edition.commands.clone(),
    };
    let all = told.words();
    if all.is_empty() {
        "the host name only".into()
    } else {
        all.join("; ")
    }
}

fn newest(document: &FirstBoot) -> u32 {
    document.newest().map_or(0, |v| v.number)
}
