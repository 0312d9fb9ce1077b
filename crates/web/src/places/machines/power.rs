//! The sheet for power: on, stop, off, restart; for one machine or many.

use super::{back, chosen, what};
use crate::frame::{
    Fields,
    sheet::{Filled, render},
};
use askama::Template;
use zastrugi_core::rooms::machines;
use zastrugi_core::{
    estate::MachineState,
    ids::HostId,
    moment::Span,
    rooms::Proposal,
    rooms::machines::{AfterGrace, PowerAct},
    view::View,
};

#[derive(Template)]
#[template(path = "places/machines/power.html")]
struct PowerFields {
    machines: Vec<(u64, String)>,
    act: String,
    grace: String,
    after: String,
    hosts: Vec<(u64, String)>,
    host: u64,
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let (ids, named) = chosen(view, fields);
    let mut wrong = Vec::new();
    let off = ids
        .first()
        .and_then(|id| view.estate.machines.get(id))
        .is_some_and(|m| m.state == MachineState::Off);
    let act = fields.or("act", if off { "on" } else { "stop" });
    let grace_text = fields.or("grace", "120");
    let seconds = grace_text
        .parse()
        .ok()
        .filter(|s| (1..=3600).contains(s))
        .unwrap_or_else(|| {
            wrong.push((
                "grace".to_owned(),
                "Between 1 and 3,600 seconds.".to_owned(),
            ));
            120
        });
    let grace = Span::secs(seconds);
    let after = fields.or("after", "leave");
    let then = if after == "off" {
        AfterGrace::PowerOff
    } else {
        AfterGrace::LeaveOn
    };
    let host = fields.get("host").parse().ok().map(HostId);
    let power = match act.as_str() {
        "on" => PowerAct::On { host },
        "off" => PowerAct::Off,
        "restart" => PowerAct::Restart { grace, then },
        _ => PowerAct::Stop { grace, then },
    };
    let cluster = ids
        .first()
        .and_then(|id| view.estate.machines.get(id))
        .and_then(|m| m.cluster);
    let mut hosts: Vec<(u64, String)> = cluster
        .map(|c| {
            view.estate
                .hosts_in(c)
                .map(|h| (h.id.0, h.name.clone()))
                .collect()
        })
        .unwrap_or_default();
    hosts.sort_by(|a, b| a.1.cmp(&b.1));
    let shown = PowerFields {
        machines: named.clone(),
        act: act.clone(),
        grace: grace_text,
        after,
        hosts,
        host: host.map_or(0, |h| h.0),
    };
    let word = power.word();
    Filled {
        title: format!("Power: {}", what(&named)),
        lead: "A stop asks the guest; powering off pulls the plug.".into(),
        run: format!("Run: {word} {}", what(&named)),
        danger: act == "off",
        back: back(&named),
        fields: render(&shown),
        ask: Proposal::Machines(machines::Ask::Power {
            machines: ids,
            act: power,
        }),
        wrong,
    }
}
