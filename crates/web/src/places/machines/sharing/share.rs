//! The sheet that makes a disk which several machines have.

use super::{
    super::new::{size, volumes},
    typed_nodes,
};
use crate::frame::{
    Fields,
    consequences::Wrong,
    sheet::{Filled, render},
};
use askama::Template;
use uuid::Uuid;
use zastrugi_core::{
    estate::Provisioning,
    ids::VolumeId,
    rooms::{
        Proposal,
        sharing::{Ask, Make, Source},
    },
    units::Bytes,
    view::View,
};

#[derive(Template)]
#[template(path = "places/machines/sharing/share.html")]
struct ShareFields {
    name: String,
    nodes: String,
    volume: u64,
    volumes: Vec<(u64, String)>,
    /// Unattached disks of the volume, in words.
    kept: Vec<(Uuid, String)>,
    source: String,
    size: String,
    thick: bool,
}

const USUAL: Bytes = Bytes::gib(10);

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let mut wrong: Vec<Wrong> = Vec::new();
    let (nodes, typed) = typed_nodes(view, fields, &[], &mut wrong);
    let first = nodes.first().and_then(|id| view.estate.machines.get(id));
    let volumes = volumes(view, first.and_then(|m| m.cluster));
    let home = first.and_then(|m| m.volumes().into_iter().next());
    let volume = fields.or("volume", &home.map_or(0, |v| v.0).to_string());
    let volume = volume.parse().ok().filter(|n| *n > 0).map(VolumeId);
    let on = volume.and_then(|v| view.estate.volumes.get(&v));
    let unattached = on.into_iter().flat_map(|v| &v.unattached.disks);
    let kept = unattached
        .filter(|(_, d)| d.deleted.is_none())
        .map(|(k, d)| (*k, super::super::hardware::spare(d)));
    let source = fields.or("source", "empty");
    let thick = fields.or("provisioning", "thin") == "thick";
    let bytes = size(fields, "size", USUAL, &mut wrong);
    let ask = Make {
        name: fields.get("name").into(),
        volume,
        source: match source.parse() {
            Ok(disk) => Source::Unattached { disk },
            Err(_) => Source::Empty {
                size: bytes,
                provisioning: if thick {
                    Provisioning::Thick
                } else {
                    Provisioning::Thin
                },
            },
        },
        nodes,
    };
    let back = first.map_or_else(
        || "/machines".to_owned(),
        |m| format!("/machines/{}", m.id.0),
    );
    Filled {
        title: "Share a disk between machines".into(),
        lead: "A guest cluster: several machines have the disk at once, and one at a time writes to it.".into(),
        run: "Run: make it and give it to them".into(),
        danger: false,
        back,
        fields: render(&ShareFields {
            name: fields.get("name").to_owned(),
            nodes: typed,
            volume: volume.map_or(0, |v| v.0),
            volumes,
            kept: kept.collect(),
            source,
            size: fields.or("size", &USUAL.to_string().replace('\u{a0}', " ")),
            thick,
        }),
        ask: Proposal::Sharing(Ask::Make(ask)),
        wrong,
    }
}
