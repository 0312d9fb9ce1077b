//! The sheet that makes a version from a machine, or from one of its snapshots.

use crate::frame::{
    Fields,
    sheet::{Filled, render},
};
use askama::Template;
use uuid::Uuid;
use zastrugi_core::{
    ids::{FirstBootId, MachineId, TemplateId, VolumeId},
    rooms::{
        Proposal,
        templates::{Ask, Make},
    },
    view::View,
};

#[derive(Template)]
#[template(path = "places/templates/make.html")]
struct MakeFields {
    machine: (u64, String),
    /// Empty for now.
    snapshot: String,
    snapshots: Vec<(Uuid, String)>,
    /// The template that it becomes a version of; 0: a new one.
    of: u64,
    templates: Vec<(u64, String)>,
    name: String,
    volume: u64,
    volumes: Vec<(u64, String)>,
    seal: bool,
    document: u64,
    documents: Vec<(u64, String)>,
    note: String,
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let ids: Vec<MachineId> = fields.ids("ids");
    let id = ids.first().copied().unwrap_or(MachineId(0));
    let machine = view.estate.machines.get(&id);
    let name = machine.map_or_else(|| id.to_string(), |m| m.name.clone());
    let of = fields
        .get("of")
        .parse()
        .ok()
        .filter(|n| *n > 0)
        .map(TemplateId);
    let snapshot: Option<Uuid> = fields.get("snapshot").parse().ok();
    let volume = fields
        .get("volume")
        .parse()
        .ok()
        .filter(|n| *n > 0)
        .map(VolumeId);
    let seal = fields.ticked("seal", true);
    let all = machine
        .map(|m| m.snapshots.all.as_slice())
        .unwrap_or_default();
    let mut templates: Vec<_> = view
        .estate
        .templates
        .values()
        .map(|t| (t.id.0, format!("{} {}", t.name, t.next)))
        .collect();
    templates.sort_by(|a, b| a.1.cmp(&b.1));
    let cluster = machine.and_then(|m| m.cluster);
    let has = machine
        .and_then(|m| m.first_boot.as_ref())
        .map(|b| b.document);
    let has = has.filter(|id| view.estate.first_boots.contains_key(id));
    let usual = has.map_or_else(String::new, |id| id.0.to_string());
    let document = fields.or("document", &usual).parse().ok().map(FirstBootId);
    let shown = MakeFields {
        machine: (id.0, name.clone()),
        snapshot: fields.get("snapshot").into(),
        snapshots: all.iter().rev().map(|s| (s.uuid, s.name.clone())).collect(),
        of: of.map_or(0, |t| t.0),
        templates,
        name: fields.get("name").into(),
        volume: volume.map_or(0, |v| v.0),
        volumes: super::super::machines::volumes(view, cluster),
        seal,
        document: document.map_or(0, |d| d.0),
        documents: super::super::first_boot::choices(view),
        note: fields.get("note").into(),
    };
    Filled {
        title: format!("Make a template from {name}"),
        lead: "A copy of its disks that nobody writes to any more; machines are made from it."
            .into(),
        run: "Run: make it".into(),
        danger: false,
        back: format!("/machines/{}", id.0),
        fields: render(&shown),
        ask: Proposal::Templates(Ask::Make(Make {
            machine: id,
            snapshot,
            of,
            name: fields.get("name").into(),
            volume,
            seal,
            first_boot: document,
            note: fields.get("note").into(),
        })),
        wrong: vec![],
    }
}
