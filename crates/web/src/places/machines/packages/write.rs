//! The sheet that writes a disk of a machine from a file.

use super::disks;
use crate::frame::{
    Fields,
    sheet::{Filled, render},
};
use askama::Template;
use uuid::Uuid;
use zastrugi_core::{
    ids::{ImageId, MachineId},
    rooms::{
        Proposal,
        packages::{Ask, Write},
    },
    view::View,
};

#[derive(Template)]
#[template(path = "places/machines/packages/write.html")]
struct WriteFields {
    machine: (u64, String),
    disk: String,
    disks: Vec<(Uuid, String)>,
    image: u64,
    images: Vec<(u64, String)>,
    typed: String,
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let id = fields.ids("ids").first().copied().unwrap_or(MachineId(0));
    let machine = view.estate.machines.get(&id);
    let name = machine.map_or_else(|| id.to_string(), |m| m.name.clone());
    let disks = disks(machine.map(|m| &**m));
    let disk = fields
        .get("disk")
        .parse()
        .ok()
        .or_else(|| disks.first().map(|d| d.0));
    let images = view
        .estate
        .images
        .values()
        .filter(|i| i.ready && i.holds.is_disk());
    let mut images: Vec<_> = images
        .map(|i| (i.id.0, format!("{} · {}", i.name, i.size)))
        .collect();
    images.sort_by(|a, b| a.1.cmp(&b.1));
    let image: Option<u64> = fields.get("image").parse().ok();
    let shown = WriteFields {
        machine: (id.0, name.clone()),
        disk: disk.map_or_else(String::new, |d: Uuid| d.to_string()),
        disks,
        image: image.unwrap_or(0),
        images,
        typed: fields.get("typed").into(),
    };
    Filled {
        title: format!("Write a disk of {name} from a file"),
        lead: "The disk holds what is in the file afterwards, and nothing of what it held.".into(),
        run: "Run: write it".into(),
        danger: true,
        back: format!("/machines/{}", id.0),
        fields: render(&shown),
        ask: Proposal::Packages(Ask::Write(Write {
            machine: id,
            disk: disk.unwrap_or_default(),
            image: image.map(ImageId),
            typed: fields.get("typed").into(),
        })),
        wrong: vec![],
    }
}
