//! Disks that no machine has: the list, and the sheet that deletes them, brings them back or removes them for good.

use crate::frame::{
    Fields, Query, Window,
    sheet::{Filled, render},
    time,
};
use askama::Template;
use uuid::Uuid;
use zastrugi_core::{
    estate::{SpareDisk, Volume},
    ids::VolumeId,
    rooms::{
        Proposal,
        hardware::{Ask, Spare, SpareAct},
    },
    view::View,
};

/// One of them, as it stands in the list.
pub(super) struct Row {
    pub(super) volume: (u64, String),
    pub(super) key: Uuid,
    /// Enough of it to tell two apart.
    pub(super) short: String,
    pub(super) had: String,
    pub(super) size: String,
    pub(super) takes: String,
    pub(super) since: String,
    /// Until when it can be brought back.
    pub(super) until: Option<String>,
}

fn row(volume: &Volume, key: Uuid, disk: &SpareDisk) -> Row {
    Row {
        volume: (volume.id.0, volume.name.clone()),
        key,
        short: key.to_string().chars().take(8).collect(),
        had: disk.had.clone(),
        size: disk.size.to_string(),
        takes: disk.takes.to_string(),
        since: time(disk.deleted.unwrap_or(disk.since)),
        until: disk.recoverable_until().map(time),
    }
}

/// Those of these volumes, the oldest first, a window at a time.
pub(super) fn rows(
    view: &View,
    volumes: impl Iterator<Item = u64>,
    query: &Query,
) -> (Vec<Row>, Window) {
    let found = volumes.filter_map(|id| view.estate.volumes.get(&VolumeId(id)));
    let mut all: Vec<_> = found
        .flat_map(|v| v.unattached.disks.iter().map(move |(k, d)| (v, *k, d)))
        .collect();
    all.sort_by_key(|(_, key, disk)| (disk.since, *key));
    let (window, shown) = Window::of("/storage", query, all.len());
    let rows = all[shown].iter().map(|(v, key, d)| row(v, *key, d));
    (rows.collect(), window)
}

#[derive(Template)]
#[template(path = "places/storage/spare_fields.html")]
struct SpareFields {
    volume: u64,
    act: String,
    disks: Vec<(Uuid, String)>,
    /// What must be typed; empty where nothing must.
    expected: String,
    typed: String,
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let id = VolumeId(fields.get("volume").parse().unwrap_or(0));
    let disks: Vec<Uuid> = fields.ids("disks");
    let volume = view.estate.volumes.get(&id);
    let had = |key: &Uuid| {
        let found = volume.and_then(|v| v.unattached.disks.get(key));
        found.map_or_else(
            || (*key, "a disk that is unattached no more".to_owned()),
            |d| (*key, format!("{} that {} had", d.size, d.had)),
        )
    };
    let shown: Vec<_> = disks.iter().map(had).collect();
    let name = fields.or("act", "delete");
    let (act, title, lead, run, danger) = match name.as_str() {
        "purge" => (
            SpareAct::Purge {
                typed: fields.get("typed").into(),
            },
            "Remove disks for good",
            "What is on them is gone for good.",
            "Run: remove them",
            true,
        ),
        "restore" => (
            SpareAct::Restore,
            "Bring disks back",
            "They are unattached again.",
            "Run: bring them back",
            false,
        ),
        _ => (
            SpareAct::Delete,
            "Delete unattached disks",
            "They stay on their volume for some days, and can be brought back.",
            "Run: delete them",
            true,
        ),
    };
    let expected = match (&act, disks.as_slice()) {
        (SpareAct::Purge { .. }, [one]) => {
            let found = volume.and_then(|v| v.unattached.disks.get(one));
            found.map_or_else(String::new, |d| d.had.clone())
        }
        (SpareAct::Purge { .. }, many) => many.len().to_string(),
        _ => String::new(),
    };
    Filled {
        title: title.into(),
        lead: lead.into(),
        run: run.into(),
        danger,
        back: "/storage".into(),
        fields: render(&SpareFields {
            volume: id.0,
            act: name,
            disks: shown,
            expected,
            typed: fields.get("typed").into(),
        }),
        ask: Proposal::Hardware(Ask::Spare(Spare {
            volume: id,
            disks,
            act,
        })),
        wrong: vec![],
    }
}
