//! The sheets that take hosts out of service, and put them back.

use crate::frame::{
    AtDesk, Fields,
    sheet::{Filled, render},
};
use askama::Template;
use futures::future::BoxFuture;
use zastrugi_core::{
    ids::HostId,
    moment::Span,
    rooms::{
        Proposal,
        hosts::HostPower,
        maintenance::{Afterwards, Ask, Empty, Return},
    },
    view::View,
};

/// How long it lasts, as it is chosen: hours, and what people call them.
const LASTS: [(&str, u64, &str); 7] = [
    ("", 0, "nobody knows"),
    ("1", 1, "1 hour"),
    ("2", 2, "2 hours"),
    ("4", 4, "4 hours"),
    ("8", 8, "8 hours"),
    ("24", 24, "1 day"),
    ("72", 72, "3 days"),
];

#[derive(Template)]
#[template(path = "places/hosts/maintenance_empty_fields.html")]
struct EmptyFields {
    /// What becomes of a guest that is asked to stop.
    stopped: &'static str,
    hosts: Vec<(u64, String)>,
    reason: String,
    lasts: String,
    slow: bool,
    force: bool,
    wire: bool,
    stop: bool,
    then: String,
    power: [(&'static str, &'static str); 3],
}

#[derive(Template)]
#[template(path = "places/hosts/maintenance_back_fields.html")]
struct BackFields {
    hosts: Vec<(u64, String)>,
    bring: bool,
    /// How many had been there.
    had: usize,
}

/// Whether a host can be switched off is asked of its controller only where that is wished.
pub(crate) fn prepare<'a>(desk: &'a AtDesk, fields: &'a Fields) -> BoxFuture<'a, ()> {
    Box::pin(async move {
        if fields.get("then").is_empty() {
            return;
        }
        for host in fields.ids("ids") {
            desk.ask_controller(host, false).await;
        }
    })
}

pub(super) fn named(view: &View, ids: &[HostId]) -> Vec<(u64, String)> {
    let host = |id: &HostId| view.estate.hosts.get(id);
    ids.iter()
        .map(|id| {
            (
                id.0,
                host(id).map_or_else(|| id.to_string(), |h| h.name.clone()),
            )
        })
        .collect()
}

pub(super) fn what(hosts: &[(u64, String)]) -> String {
    match hosts {
        [(_, one)] => one.clone(),
        many => format!("{} hosts", many.len()),
    }
}

pub(super) fn back(hosts: &[(u64, String)]) -> String {
    match hosts {
        [(id, _)] => format!("/hosts/{id}"),
        _ => "/hosts".into(),
    }
}

pub(crate) fn empty(view: &View, fields: &Fields) -> Filled {
    let ids: Vec<HostId> = fields.ids("ids");
    let hosts = named(view, &ids);
    let what = what(&hosts);
    let first = ids.first().and_then(|id| view.estate.hosts.get(id));
    let former = first.and_then(|h| h.maintenance.as_deref());
    let reason = fields.or("reason", former.map_or("", |m| m.reason.as_str()));
    let lasts = fields.get("lasts").to_owned();
    let hours = LASTS
        .iter()
        .find(|(word, ..)| *word == lasts)
        .map_or(0, |l| l.1);
    let then = fields.get("then").to_owned();
    let ask = Empty {
        hosts: ids,
        reason: (&reason).into(),
        lasts: (hours > 0).then(|| Span::mins(hours * 60)),
        slow: fields.ticked("slow", false),
        force: fields.ticked("force", false),
        wire: fields.ticked("wire", false),
        stop: fields.ticked("stop", false),
        then: match then.as_str() {
            "off" => Afterwards::Power(HostPower::Off),
            "restart" => Afterwards::Power(HostPower::Restart),
            _ => Afterwards::StaysOn,
        },
    };
    let shown = EmptyFields {
        stopped: "is started again when the host is back",
        reason,
        lasts,
        slow: ask.slow,
        force: ask.force,
        wire: ask.wire,
        stop: ask.stop,
        then,
        power: [
            ("", "stays on"),
            (
                "off",
                "is switched off by its controller, and that is proved",
            ),
            ("restart", "is switched off, and on again"),
        ],
        hosts: hosts.clone(),
    };
    Filled {
        title: format!("Maintenance of {what}"),
        lead: "Nothing is put there from now on, and what runs there moves to the others. It stays so until somebody puts it back in service.".into(),
        run: format!("Run: empty {what}"),
        danger: ask.stop || ask.force,
        back: back(&hosts),
        fields: render(&shown),
        ask: Proposal::Maintenance(Ask::Empty(ask)),
        wrong: vec![],
    }
}

pub(crate) fn serve(view: &View, fields: &Fields) -> Filled {
    let ids: Vec<HostId> = fields.ids("ids");
    let hosts = named(view, &ids);
    let what = what(&hosts);
    let kept = ids
        .iter()
        .filter_map(|id| view.estate.hosts.get(id)?.maintenance.as_deref());
    let had = kept.map(|m| m.had.len()).sum();
    let bring = fields.ticked("bring", true);
    Filled {
        title: format!("{what} back in service"),
        lead: "Machines can be put there again.".into(),
        run: format!("Run: put {what} back in service"),
        danger: false,
        back: back(&hosts),
        fields: render(&BackFields { hosts, bring, had }),
        ask: Proposal::Maintenance(Ask::Return(Return { hosts: ids, bring })),
        wrong: vec![],
    }
}
