//! The sheet for moving machines to other hosts while they run.

use super::{back, chosen, what};
use crate::frame::{
    Fields,
    sheet::{Filled, render},
};
use askama::Template;
use zastrugi_core::rooms::moving;
use zastrugi_core::{
    ids::{HostId, VolumeId},
    rooms::Proposal,
    rooms::moving::{DisksTo, Move},
    view::View,
};

#[derive(Template)]
#[template(path = "places/machines/moving_move_fields.html")]
struct MoveFields {
    machines: Vec<(u64, String)>,
    hosts: Vec<(u64, String)>,
    to: u64,
    volumes: Vec<(u64, String)>,
    volume: u64,
    stay: bool,
    slow: bool,
    force: bool,
    wire: bool,
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let (ids, named) = chosen(view, fields);
    let estate = &view.estate;
    let first = ids.first().and_then(|id| estate.machines.get(id));
    let cluster = first.and_then(|m| m.cluster);
    let volume = fields.get("volume").parse().ok().map(VolumeId);
    let stay = fields.ticked("stay", false);
    let ask = Move {
        disks: (stay || volume.is_some()).then_some(DisksTo { volume, stay }),
        to: fields.get("to").parse().ok().map(HostId),
        slow: fields.ticked("slow", false),
        force: fields.ticked("force", false),
        wire: fields.ticked("wire", false),
        machines: ids,
    };
    let shown = MoveFields {
        machines: named.clone(),
        hosts: super::hosts(view, cluster),
        to: ask.to.map_or(0, |h| h.0),
        volumes: super::new::volumes(view, cluster),
        volume: volume.map_or(0, |v| v.0),
        stay,
        slow: ask.slow,
        force: ask.force,
        wire: ask.wire,
    };
    Filled {
        title: format!("Move {}", what(&named)),
        lead: "To another host, while it runs, or its disks to another volume. What it will be like stands at the right.".into(),
        run: format!("Run: move {}", what(&named)),
        danger: ask.force,
        back: back(&named),
        fields: render(&shown),
        ask: Proposal::Moving(moving::Ask::Move(ask)),
        wrong: vec![],
    }
}
