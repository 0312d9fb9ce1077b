//! The sheets that change who has a shared disk, and that share it no more.

use super::typed_nodes;
use crate::frame::{
    Fields,
    sheet::{Filled, render},
};
use askama::Template;
use uuid::Uuid;
use zastrugi_core::{
    ids::MachineId,
    rooms::{Proposal, sharing::Ask},
    view::View,
};

#[derive(Template)]
#[template(path = "places/machines/sharing/nodes.html")]
struct NodesFields {
    disk: Uuid,
    /// None: nothing is chosen.
    nodes: Option<String>,
}

fn disk(view: &View, fields: &Fields) -> (Uuid, String) {
    let key: Uuid = fields.get("disk").parse().unwrap_or_default();
    let found = view.estate.shared_disk(key);
    (
        key,
        found.map_or_else(
            || "a disk that is shared no more".into(),
            |(_, d)| d.name.clone(),
        ),
    )
}

fn back(key: Uuid) -> String {
    format!("/storage/shared/{key}")
}

pub(crate) fn change(view: &View, fields: &Fields) -> Filled {
    let (key, name) = disk(view, fields);
    let had: Vec<MachineId> = view.estate.nodes(key).map(|m| m.id).collect();
    let mut wrong = Vec::new();
    let (nodes, typed) = typed_nodes(view, fields, &had, &mut wrong);
    Filled {
        title: format!("Who has {name}"),
        lead: "Machines come to it and leave it; whoever has it otherwise than it asks for gets it as it shall be.".into(),
        run: "Run: let these have it".into(),
        danger: false,
        back: back(key),
        fields: render(&NodesFields { disk: key, nodes: Some(typed) }),
        ask: Proposal::Sharing(Ask::Nodes { disk: key, nodes }),
        wrong,
    }
}

pub(crate) fn end(view: &View, fields: &Fields) -> Filled {
    let (key, name) = disk(view, fields);
    Filled {
        title: format!("Share {name} no more"),
        lead: "No machine has it afterwards; the disk and what is on it stay.".into(),
        run: "Run: share it no more".into(),
        danger: true,
        back: back(key),
        fields: render(&NodesFields {
            disk: key,
            nodes: None,
        }),
        ask: Proposal::Sharing(Ask::End { disk: key }),
        wrong: vec![],
    }
}
