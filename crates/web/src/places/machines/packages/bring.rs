//! The sheet that copies a disk of another machine: over one that a machine has, or as one more.

use super::disks;
use crate::frame::{
    Fields,
    consequences::Wrong,
    sheet::{Filled, render},
};
use askama::Template;
use uuid::Uuid;
use zastrugi_core::{
    estate::Machine,
    ids::MachineId,
    rooms::{
        Proposal,
        refreshing::{Ask, CopyDisk},
    },
    view::View,
};

#[derive(Template)]
#[template(path = "places/machines/packages/bring.html")]
struct BringFields {
    machine: (u64, String),
    from: String,
    snapshot: String,
    /// Its state now can be copied.
    rests: bool,
    snapshots: Vec<(Uuid, String)>,
    disk: usize,
    theirs: Vec<(usize, String)>,
    onto: String,
    disks: Vec<(Uuid, String)>,
    typed: String,
}

/// The newest first.
fn snapshots(from: Option<&Machine>) -> Vec<(Uuid, String)> {
    let mut all: Vec<_> = from.into_iter().flat_map(|m| &m.snapshots.all).collect();
    all.sort_by_key(|s| std::cmp::Reverse(s.taken));
    all.into_iter().map(|s| (s.uuid, s.name.clone())).collect()
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let estate = &view.estate;
    let id = fields.ids("ids").first().copied().unwrap_or(MachineId(0));
    let machine = estate.machines.get(&id);
    let name = machine.map_or_else(|| id.to_string(), |m| m.name.clone());
    let mut wrong: Vec<Wrong> = Vec::new();
    let typed = fields.get("from").trim().to_owned();
    let from = estate.machine_named(&typed);
    if from.is_none() && !typed.is_empty() {
        wrong.push(("from".to_owned(), format!("There is no machine {typed}.")));
    }
    let rests = from.is_some_and(|m| m.is_off());
    let all = snapshots(from.map(|m| &**m));
    let usual = if rests {
        None
    } else {
        all.first().map(|s| s.0)
    };
    let snapshot = fields.or(
        "snapshot",
        &usual.map_or_else(String::new, |u| u.to_string()),
    );
    let known = snapshot
        .parse()
        .ok()
        .filter(|u| all.iter().any(|s| s.0 == *u));
    let disk = fields.get("disk").parse().unwrap_or(0);
    let onto: Option<Uuid> = fields.get("onto").parse().ok();
    let theirs = disks(from.map(|m| &**m))
        .into_iter()
        .map(|d| d.1)
        .enumerate();
    Filled {
        title: format!("Bring a disk of another machine to {name}"),
        lead: "A copy of it: as one more disk, or over one that is there. The other machine is left alone.".into(),
        run: if onto.is_some() { "Run: write it over" } else { "Run: bring it in" }.into(),
        danger: onto.is_some(),
        back: format!("/machines/{}", id.0),
        fields: render(&BringFields {
            machine: (id.0, name),
            from: typed,
            snapshot,
            rests,
            snapshots: all,
            disk,
            theirs: theirs.collect(),
            onto: onto.map_or_else(String::new, |u| u.to_string()),
            disks: disks(machine.map(|m| &**m)),
            typed: fields.get("typed").into(),
        }),
        ask: Proposal::Refreshing(Ask::Copy(CopyDisk {
            machine: id,
            onto,
            from: from.map(|m| m.id),
            snapshot: known,
            disk,
            typed: fields.get("typed").into(),
        })),
        wrong,
    }
}
