//! The sheet that attaches a disk which no machine has.

use super::spare;
use crate::frame::{
    Fields,
    sheet::{Filled, render},
};
use askama::Template;
use uuid::Uuid;
use zastrugi_core::{
    ids::{MachineId, VolumeId},
    rooms::{
        Proposal,
        hardware::{Ask, Change, DiskWish},
    },
    view::View,
};

#[derive(Template)]
#[template(path = "places/machines/hardware/attach.html")]
struct AttachFields {
    volume: u64,
    disk: Uuid,
    machine: String,
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let id = VolumeId(fields.get("volume").parse().unwrap_or(0));
    let disk: Uuid = fields.get("disk").parse().unwrap_or_default();
    let volume = view.estate.volumes.get(&id);
    let found = volume.and_then(|v| v.unattached.disks.get(&disk));
    let words = found.map_or_else(|| "a disk that is unattached no more".to_owned(), spare);
    let typed = fields.get("machine").trim().to_owned();
    let machine = view.estate.machine_named(&typed).map(|m| m.id);
    let mut wrong = Vec::new();
    if machine.is_none() {
        let why = match typed.is_empty() {
            true => "Type the name of the machine that gets it.".to_owned(),
            false => format!("There is no machine {typed}."),
        };
        wrong.push(("machines".to_owned(), why));
    }
    let ask = Change {
        machine: machine.unwrap_or(MachineId(0)),
        disks: vec![DiskWish::Attach { disk }],
        cards: vec![],
    };
    Filled {
        title: "Attach a disk".into(),
        lead: format!(
            "{words}, on {}.",
            volume.map_or("its volume", |v| v.name.as_str())
        ),
        run: "Run: attach it".into(),
        danger: false,
        back: "/storage".into(),
        fields: render(&AttachFields {
            volume: id.0,
            disk,
            machine: typed,
        }),
        ask: Proposal::Hardware(Ask::Change(ask)),
        wrong,
    }
}
