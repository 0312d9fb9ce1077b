//! The sheet that lets a machine go back.

use super::super::{back, chosen, what};
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
        snapshots::{Ask, Back},
    },
    view::View,
};

#[derive(Template)]
#[template(path = "places/machines/snapshots/back.html")]
struct BackFields {
    machines: Vec<(u64, String)>,
    all: Vec<(Uuid, String)>,
    to: Option<Uuid>,
    keep: bool,
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let (ids, mut named) = chosen(view, fields);
    named.truncate(1);
    let id = ids.first().copied().unwrap_or(MachineId(0));
    let machine = view.estate.machines.get(&id);
    let all = machine
        .map(|m| m.snapshots.all.as_slice())
        .unwrap_or_default();
    let to = fields.get("to").parse().ok();
    let keep = fields.ticked("keep", true);
    let ask = Back {
        machine: id,
        to,
        keep,
    };
    Filled {
        title: format!("{} goes back", what(&named)),
        lead: "Its disks are as they were; what it wrote since is not lost where you keep it."
            .into(),
        run: format!("Run: {} goes back", what(&named)),
        danger: !keep,
        back: back(&named),
        fields: render(&BackFields {
            machines: named.clone(),
            all: all.iter().rev().map(|s| (s.uuid, s.name.clone())).collect(),
            to,
            keep,
        }),
        ask: Proposal::Snapshots(Ask::Back(ask)),
        wrong: vec![],
    }
}
