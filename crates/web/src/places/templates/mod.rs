//! Templates: a row each in Storage, a page with their versions, and the sheets that make and remove versions.

mod make;
mod page;
mod remove;
mod whole;

use crate::frame::sheet::Sheet;
use rocket::{Route, routes};
use std::collections::BTreeMap;
use zastrugi_core::{
    estate::{Sealed, Template, Version},
    ids::TemplateId,
    permits::Act,
    view::View,
};

/// What can be changed from here.
pub(crate) const SHEETS: &[Sheet] = &[
    Sheet::new("make-template", Act::Machines, "machines", make::fill)
        .prepared(super::machines::layers),
    Sheet::new("remove-versions", Act::Purge, "storage", remove::fill),
    Sheet::new("make-whole", Act::Machines, "machines", whole::fill),
];

pub(crate) fn routes() -> Vec<Route> {
    routes![page::show, page::page_part]
}

/// One template in the list of Storage.
pub(super) struct Row {
    pub(super) id: u64,
    pub(super) name: String,
    pub(super) newest: String,
    pub(super) sealed: &'static str,
    pub(super) versions: usize,
    pub(super) takes: String,
    pub(super) volume: String,
    pub(super) lie: usize,
}

fn sealed_word(version: &Version) -> &'static str {
    match version.sealed {
        Sealed::Yes(_) => "sealed",
        Sealed::No | Sealed::Unable(_) => "not sealed",
    }
}

fn row(view: &View, template: &Template, lie: usize) -> Row {
    let newest = template.newest();
    let takes = template
        .versions
        .iter()
        .map(|v| v.takes)
        .sum::<zastrugi_core::units::Bytes>();
    let volume = newest.and_then(|v| view.estate.volumes.get(&v.volume));
    Row {
        id: template.id.0,
        name: template.name.clone(),
        newest: newest.map_or_else(|| "none yet".into(), |v| v.number.to_string()),
        sealed: newest.map_or("", sealed_word),
        versions: template.versions.len(),
        takes: takes.to_string(),
        volume: volume.map_or_else(String::new, |v| v.name.clone()),
        lie,
    }
}

/// Templates with a version on one of these volumes, by name.
pub(super) fn rows(view: &View, here: impl Fn(u64) -> bool) -> Vec<Row> {
    let all = view.estate.templates.values();
    let near = all.filter(|t| t.versions.iter().any(|v| here(v.volume.0)));
    let mut lie: BTreeMap<TemplateId, usize> = BTreeMap::new();
    for parent in view.estate.machines.values().filter_map(|m| m.parent) {
        *lie.entry(parent.template).or_insert(0) += 1;
    }
    let lie = |t: &Template| lie.get(&t.id).copied().unwrap_or(0);
    let mut rows: Vec<Row> = near.map(|t| row(view, t, lie(t))).collect();
    rows.sort_by(|a, b| a.name.cmp(&b.name));
    rows
}
