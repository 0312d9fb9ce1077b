//! Disks that several machines have: the page of one, and the sheets that make it, give it to machines, and share it no more.

mod nodes;
pub(super) mod page;
mod share;

pub(crate) use nodes::{change, end};
pub(crate) use share::fill as share;

use crate::frame::{Fields, consequences::Wrong};
use uuid::Uuid;
use zastrugi_core::{
    estate::{Estate, SharedDisk, Volume},
    ids::MachineId,
    shared::troubles,
    view::View,
};

/// As it stands in a list.
pub(crate) struct Row {
    pub(crate) key: Uuid,
    pub(crate) name: String,
    pub(crate) size: String,
    pub(crate) takes: String,
    pub(crate) nodes: Vec<(u64, String)>,
    pub(crate) writes: String,
    pub(crate) glyph: &'static str,
    pub(crate) word: String,
}

fn row(estate: &Estate, key: Uuid, disk: &SharedDisk) -> Row {
    let (glyph, word) = state(estate, key, disk);
    Row {
        key,
        name: disk.name.clone(),
        size: disk.size.to_string(),
        takes: disk.takes.to_string(),
        nodes: estate
            .nodes(key)
            .map(|m| (m.id.0, m.name.clone()))
            .collect(),
        writes: writer(estate, disk),
        glyph,
        word,
    }
}

/// Those that lie on a volume, by name.
pub(crate) fn on_volume(view: &View, volume: &Volume) -> Vec<Row> {
    let mut all: Vec<Row> = volume
        .shared
        .disks
        .iter()
        .map(|(k, d)| row(&view.estate, *k, d))
        .collect();
    all.sort_by(|a, b| a.name.cmp(&b.name));
    all
}

/// The machine that holds its reservation.
fn writer(estate: &Estate, disk: &SharedDisk) -> String {
    let holder = disk
        .holder
        .and_then(|h| estate.machine_with_uuid(&h.machine));
    holder.map_or_else(|| "nobody".into(), |m| m.name.clone())
}

fn state(estate: &Estate, key: Uuid, disk: &SharedDisk) -> (&'static str, String) {
    let found = troubles(estate, key, disk);
    match (found.len(), estate.nodes(key).count()) {
        (_, 0 | 1) => ("mind", "nobody to take over".into()),
        (0, _) => ("steady", "as it shall be".into()),
        (1, _) => ("mind", "one thing is amiss".into()),
        (n, _) => ("mind", format!("{n} things are amiss")),
    }
}

/// Machines that were typed by name, separated by commas; of a link the numbers.
fn typed_nodes(
    view: &View,
    fields: &Fields,
    had: &[MachineId],
    wrong: &mut Vec<Wrong>,
) -> (Vec<MachineId>, String) {
    let estate = &view.estate;
    let name = |id: &MachineId| estate.machines.get(id).map(|m| m.name.clone());
    let chosen: Vec<MachineId> = fields.ids("ids");
    let first = if chosen.is_empty() {
        had
    } else {
        chosen.as_slice()
    };
    let usual: Vec<String> = first.iter().filter_map(name).collect();
    let typed = fields.or("nodes", &usual.join(", "));
    let mut found = Vec::new();
    let mut unknown = Vec::new();
    for name in typed.split(',').map(str::trim).filter(|n| !n.is_empty()) {
        match estate.machine_named(name) {
            Some(m) => found.push(m.id),
            None => unknown.push(name.to_owned()),
        }
    }
    if !unknown.is_empty() {
        wrong.push((
            "nodes".to_owned(),
            format!("There is no machine {}.", unknown.join(", and none ")),
        ));
    }
    (found, typed)
}
