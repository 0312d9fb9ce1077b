//! The sheet that moves a machine to where there is room for more, and then gives it more.

use super::{back, chosen, new::size, what};
use crate::frame::{
    Fields,
    consequences::Wrong,
    fields::whole,
    sheet::{Filled, render},
};
use askama::Template;
use zastrugi_core::{
    estate::Memory,
    ids::{HostId, MachineId},
    rooms::{
        Proposal,
        growing::{Ask, Grow},
    },
    units::Bytes,
    view::View,
};

#[derive(Template)]
#[template(path = "places/machines/growing.html")]
struct GrowFields {
    machines: Vec<(u64, String)>,
    vcpus: String,
    memory: String,
    kept: String,
    hosts: Vec<(u64, String)>,
    to: u64,
    slow: bool,
    force: bool,
    wire: bool,
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let (ids, named) = chosen(view, fields);
    let id = ids.first().copied().unwrap_or(MachineId(0));
    let machine = view.estate.machines.get(&id);
    let mut wrong: Vec<Wrong> = Vec::new();
    let has = machine.map_or(
        Memory {
            kept: Bytes::ZERO,
            size: Bytes::ZERO,
            max: Bytes::ZERO,
        },
        |m| m.memory,
    );
    let memory = Memory {
        size: size(fields, "memory", has.size, &mut wrong),
        kept: size(fields, "kept", has.kept, &mut wrong),
        max: has.max,
    };
    let had = machine.map_or(1, |m| m.vcpus);
    let vcpus = whole(&fields.or("vcpus", &had.to_string())).unwrap_or_else(|words| {
        wrong.push(("vcpus".to_owned(), words));
        had
    });
    let ask = Grow {
        machine: id,
        memory: machine.map(|_| Memory {
            max: memory.max.max(memory.size),
            ..memory
        }),
        vcpus: Some(vcpus),
        to: fields.get("to").parse().ok().map(HostId),
        slow: fields.ticked("slow", false),
        force: fields.ticked("force", false),
        wire: fields.ticked("wire", false),
    };
    let plain = |b: Bytes| b.to_string().replace('\u{a0}', " ");
    Filled {
        title: format!("Move {}, then give it more", what(&named)),
        lead:
            "One run: it goes to a host with room for all of it while it runs, and gets more there."
                .into(),
        run: "Run: move it, then let it grow".into(),
        danger: ask.force,
        back: back(&named),
        fields: render(&GrowFields {
            machines: named,
            vcpus: fields.or("vcpus", &had.to_string()),
            memory: fields.or("memory", &plain(has.size)),
            kept: fields.or("kept", &plain(has.kept)),
            hosts: super::hosts(view, machine.and_then(|m| m.cluster)),
            to: ask.to.map_or(0, |h| h.0),
            slow: ask.slow,
            force: ask.force,
            wire: ask.wire,
        }),
        ask: Proposal::Growing(Ask::Grow(ask)),
        wrong,
    }
}
