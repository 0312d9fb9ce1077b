//! The sheet by which hosts leave their cluster for good.

use super::maintenance::{back, named, what};
use crate::frame::{
    Fields,
    sheet::{Filled, render},
};
use askama::Template;
use zastrugi_core::{
    ids::HostId,
    rooms::{
        Proposal,
        leaving::{Ask, Leave},
    },
    view::View,
};

#[derive(Template)]
#[template(path = "places/hosts/leave_fields.html")]
struct LeaveFields {
    hosts: Vec<(u64, String)>,
    stopped: &'static str,
    slow: bool,
    force: bool,
    wire: bool,
    stop: bool,
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let ids: Vec<HostId> = fields.ids("ids");
    let hosts = named(view, &ids);
    let what = what(&hosts);
    let ask = Leave {
        hosts: ids,
        slow: fields.ticked("slow", false),
        force: fields.ticked("force", false),
        wire: fields.ticked("wire", false),
        stop: fields.ticked("stop", false),
    };
    let shown = LeaveFields {
        hosts: hosts.clone(),
        stopped: "stays off, and can be started on the others",
        slow: ask.slow,
        force: ask.force,
        wire: ask.wire,
        stop: ask.stop,
    };
    Filled {
        title: format!("Take {what} out of its cluster"),
        lead: "What runs there moves to the others, its keepers too; then it is cut off from storage and networks, and handed back.".into(),
        run: format!("Run: take {what} out"),
        danger: true,
        back: back(&hosts),
        fields: render(&shown),
        ask: Proposal::Leaving(Ask::Leave(ask)),
        wrong: vec![],
    }
}
