//! The sheet that tries whether hosts can be fenced.

use super::maintenance::{back, named, what};
use crate::frame::{
    AtDesk, Fields,
    sheet::{Filled, render},
};
use askama::Template;
use futures::future::BoxFuture;
use zastrugi_core::{
    ids::HostId,
    rooms::{Proposal, hosts::Ask},
    view::View,
};

#[derive(Template)]
#[template(path = "places/hosts/fencing_fields.html")]
struct FencingFields {
    hosts: Vec<(u64, String)>,
}

/// What each controller says is asked when the sheet is opened.
pub(crate) fn prepare<'a>(desk: &'a AtDesk, fields: &'a Fields) -> BoxFuture<'a, ()> {
    Box::pin(async move {
        for host in fields.ids("ids") {
            desk.ask_controller(host, !fields.has("sent")).await;
        }
    })
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let ids: Vec<HostId> = fields.ids("ids");
    let hosts = named(view, &ids);
    let what = what(&hosts);
    Filled {
        title: format!("Test the fencing of {what}"),
        lead: "Whether a host can be proved off when it must is known only once that was tried."
            .into(),
        run: format!("Run: test {what}"),
        danger: true,
        back: back(&hosts),
        fields: render(&FencingFields { hosts }),
        ask: Proposal::Hosts(Ask::TestFencing { hosts: ids }),
        wrong: vec![],
    }
}
