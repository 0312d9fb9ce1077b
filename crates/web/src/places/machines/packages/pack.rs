//! The sheet that packs a machine, or one of its disks, into a file on a volume.

use super::disks;
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
        packages::{Ask, Pack},
    },
    view::View,
};

#[derive(Template)]
#[template(path = "places/machines/packages/pack.html")]
struct PackFields {
    machine: (u64, String),
    snapshot: String,
    snapshots: Vec<(Uuid, String)>,
    disk: String,
    disks: Vec<(Uuid, String)>,
    raw: bool,
    name: String,
    volume: u64,
    volumes: Vec<(u64, String)>,
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let id = fields.ids("ids").first().copied().unwrap_or(MachineId(0));
    let machine = view.estate.machines.get(&id);
    let name = machine.map_or_else(|| id.to_string(), |m| m.name.clone());
    let snapshots = machine
        .map(|m| m.snapshots.all.as_slice())
        .unwrap_or_default();
    let raw = fields.get("how") == "raw";
    let volume = fields
        .get("volume")
        .parse()
        .ok()
        .filter(|v| *v > 0)
        .map(VolumeId);
    let shown = PackFields {
        machine: (id.0, name.clone()),
        snapshot: fields.get("snapshot").into(),
        snapshots: snapshots
            .iter()
            .rev()
            .map(|s| (s.uuid, s.name.clone()))
            .collect(),
        disk: fields.get("disk").into(),
        disks: disks(machine.map(|m| &**m)),
        raw,
        name: fields.get("name").into(),
        volume: volume.map_or(0, |v| v.0),
        volumes: super::super::volumes(view, machine.and_then(|m| m.cluster)),
    };
    Filled {
        title: format!("Pack {name}"),
        lead: "Into a file on a volume, which is fetched from there: a machine in an archive (OVA), or the bytes of one disk.".into(),
        run: "Run: pack it".into(),
        danger: false,
        back: format!("/machines/{}", id.0),
        fields: render(&shown),
        ask: Proposal::Packages(Ask::Pack(Pack {
            machine: id,
            snapshot: fields.get("snapshot").parse().ok(),
            disk: fields.get("disk").parse().ok(),
            gzip: !raw,
            name: fields.get("name").into(),
            volume,
        })),
        wrong: vec![],
    }
}
