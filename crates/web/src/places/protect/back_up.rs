//! The sheets that copy machines into a store: now, or as a snapshot has one.

use crate::frame::{
    Fields,
    fields::minutes_to_choose,
    sheet::{Filled, render},
};
use crate::places::machines::{back, chosen, what};
use askama::Template;
use uuid::Uuid;
use zastrugi_core::{
    ids::{MachineId, StoreId},
    moment::Span,
    rooms::{
        Proposal,
        backups::{Ask, BackUp},
        carrying::{self, CopySnapshot},
        snapshots::Quiet,
    },
    view::View,
};

/// Stores that can be written to, by name; the one that is chosen, or the first.
fn stores(view: &View, fields: &Fields) -> (Vec<(u64, String)>, Option<StoreId>) {
    let ready = view.estate.stores.values().filter(|s| s.ready);
    let mut all: Vec<(u64, String)> = ready
        .map(|s| (s.id.0, format!("{}, {}", s.name, s.lies.words())))
        .collect();
    all.sort_by(|a, b| a.1.cmp(&b.1));
    let typed = fields.get("store").parse().ok();
    let store = typed.or_else(|| all.first().map(|(id, _)| *id));
    (all, store.map(StoreId))
}

/// How long what is made by hand may be wanted, in minutes.
const KEEP: [u64; 6] = [1440, 4320, 10_080, 43_200, 129_600, 525_600];

#[derive(Template)]
#[template(path = "places/protect/back_up.html")]
struct BackUpFields {
    machines: Vec<(u64, String)>,
    stores: Vec<(u64, String)>,
    store: u64,
    quiet: String,
    keep: u64,
    keeps: Vec<(u64, String)>,
}

pub(crate) fn now(view: &View, fields: &Fields) -> Filled {
    let (machines, named) = chosen(view, fields);
    let (stores, store) = stores(view, fields);
    let quiet = fields.or("quiet", "possible");
    let keep: u64 = fields.get("keep").parse().unwrap_or(0);
    Filled {
        title: format!("Back up {}", what(&named)),
        lead: "A state that stands still is copied into a store, outside everything that is backed up.".into(),
        run: format!("Run: back up {}", what(&named)),
        danger: false,
        back: back(&named),
        fields: render(&BackUpFields {
            machines: named.clone(),
            stores,
            store: store.map_or(0, |s| s.0),
            quiet: quiet.clone(),
            keep,
            keeps: minutes_to_choose(&KEEP, keep)
                .into_iter()
                .filter(|(m, _)| *m > 0)
                .collect(),
        }),
        ask: Proposal::Backups(Ask::Now(BackUp {
            machines,
            store,
            quiet: match quiet.as_str() {
                "no" => Quiet::No,
                "only" => Quiet::Only,
                _ => Quiet::IfPossible,
            },
            keep: (keep > 0).then(|| Span::mins(keep.min(6_000_000))),
        })),
        wrong: vec![],
    }
}

#[derive(Template)]
#[template(path = "places/protect/copy_snapshot.html")]
struct CopyFields {
    id: u64,
    name: String,
    snapshots: Vec<(String, String)>,
    snapshot: String,
    stores: Vec<(u64, String)>,
    store: u64,
}

pub(crate) fn snapshot(view: &View, fields: &Fields) -> Filled {
    let id = fields
        .ids::<MachineId>("ids")
        .first()
        .copied()
        .unwrap_or(MachineId(0));
    let machine = view.estate.machines.get(&id);
    let name = machine.map_or_else(|| "a machine".to_owned(), |m| m.name.clone());
    let all = machine
        .map(|m| m.snapshots.all.as_slice())
        .unwrap_or_default();
    let newest = all.last().map_or_else(String::new, |s| s.uuid.to_string());
    let snapshot = fields.or("snapshot", &newest);
    let (stores, store) = stores(view, fields);
    Filled {
        title: format!("Copy a snapshot of {name} to a store"),
        lead: "The snapshot stays as it is; the store has the same state outside everything that is backed up.".into(),
        run: "Run: copy it".into(),
        danger: false,
        back: format!("/machines/{}", id.0),
        fields: render(&CopyFields {
            id: id.0,
            name,
            snapshots: all.iter().rev().map(|s| (s.uuid.to_string(), s.name.clone())).collect(),
            snapshot: snapshot.clone(),
            stores,
            store: store.map_or(0, |s| s.0),
        }),
        ask: Proposal::Carrying(carrying::Ask::Copy(CopySnapshot {
            machine: id,
            snapshot: snapshot.parse::<Uuid>().ok(),
            store,
        })),
        wrong: vec![],
    }
}
