//! The sheet for a host's power: by its controller, or on a person's word.

use crate::frame::{
    AtDesk, Fields,
    sheet::{Filled, render},
};
use askama::Template;
use futures::future::BoxFuture;
use zastrugi_core::{
    estate::{Condition, Host},
    ids::HostId,
    rooms::{
        Proposal,
        hosts::{Ask, HostPower},
    },
    view::View,
};

#[derive(Template)]
#[template(path = "places/hosts/power.html")]
struct PowerFields {
    id: u64,
    hint: String,
    acts: Vec<(&'static str, String)>,
    act: String,
    typed: String,
}

/// What its controller says is asked when the sheet is opened.
pub(crate) fn prepare<'a>(desk: &'a AtDesk, fields: &'a Fields) -> BoxFuture<'a, ()> {
    Box::pin(async move {
        if let Some(host) = host(fields) {
            desk.ask_controller(host, !fields.has("sent")).await;
        }
    })
}

fn host(fields: &Fields) -> Option<HostId> {
    fields.ids("ids").first().copied()
}

/// What is sensible first.
fn likely(host: Option<&Host>) -> &'static str {
    match host.map(|h| &h.condition) {
        Some(Condition::Off { .. }) => "on",
        Some(Condition::Steady) => "restart",
        _ => "off",
    }
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let id = host(fields).unwrap_or(HostId(0));
    let host = view.estate.hosts.get(&id);
    let name = host.map_or_else(String::new, |h| h.name.clone());
    let act = fields.or("act", likely(host.map(|h| &**h)));
    let typed = fields.get("typed");
    let ask = match act.as_str() {
        "declare" => Ask::DeclareOff {
            host: id,
            typed: typed.into(),
        },
        "on" => Ask::Power {
            host: id,
            act: HostPower::On,
        },
        "restart" => Ask::Power {
            host: id,
            act: HostPower::Restart,
        },
        _ => Ask::Power {
            host: id,
            act: HostPower::Off,
        },
    };
    let word = match act.as_str() {
        "declare" => format!("declare {name} off"),
        "on" => format!("switch {name} on"),
        "restart" => format!("switch {name} off and on"),
        _ => format!("switch {name} off"),
    };
    let shown = PowerFields {
        id: id.0,
        acts: vec![
            ("off", "Switch off by its controller, and prove it".into()),
            ("on", "Switch on by its controller".into()),
            ("restart", "Off, proved, and on again".into()),
            ("declare", "It is off: I vouch for it".into()),
        ],
        typed: typed.to_owned(),
        act: act.clone(),
        hint: format!("The name of the host, {name}, to confirm."),
    };
    Filled {
        title: format!("Power of {name}"),
        lead: "Once a host is proved off, its machines are known to be off, and can be started on others.".into(),
        run: format!("Run: {word}"),
        danger: act != "on",
        back: format!("/hosts/{}", id.0),
        fields: render(&shown),
        ask: Proposal::Hosts(ask),
        wrong: vec![],
    }
}
