//! The sheet that says until when a snapshot is kept.

use super::super::{back, chosen};
use crate::frame::{
    Fields,
    sheet::{Filled, render},
};
use askama::Template;
use uuid::Uuid;
use zastrugi_core::{
    ids::MachineId,
    rooms::{
        Proposal,
        snapshots::{Ask, Keep},
    },
    view::View,
};

#[derive(Template)]
#[template(path = "places/machines/snapshots/keep.html")]
struct KeepFields {
    id: u64,
    snapshot: String,
    note: String,
    ends: String,
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let (ids, named) = chosen(view, fields);
    let mut wrong = Vec::new();
    let id = ids.first().copied().unwrap_or(MachineId(0));
    let snapshot: Option<Uuid> = fields.get("snapshot").parse().ok();
    let machine = view.estate.machines.get(&id);
    let known = machine.and_then(|m| m.snapshots.get(snapshot?));
    let note = fields.or("note", known.map_or("", |s| s.note.as_str()));
    let ends = super::days(fields, "ends", &mut wrong);
    let name = known.map_or("a snapshot", |s| s.name.as_str());
    Filled {
        title: format!("Keep {name}"),
        lead: "Nothing is done to it now.".into(),
        run: format!("Run: keep {name}"),
        danger: false,
        back: back(&named),
        fields: render(&KeepFields {
            id: id.0,
            snapshot: snapshot.map_or_else(String::new, |s| s.to_string()),
            note: note.clone(),
            ends: fields.get("ends").to_owned(),
        }),
        ask: Proposal::Snapshots(Ask::Keep(Keep {
            machine: id,
            snapshot,
            note: (&note).into(),
            ends,
        })),
        wrong,
    }
}
