//! The sheet that brings deleted machines back: off or on, where, and on which networks.

use super::{back, chosen, hosts, new::networks, what};
use crate::frame::{
    Fields,
    sheet::{Filled, render},
};
use askama::Template;
use zastrugi_core::{
    ids::{HostId, NetworkId},
    rooms::{
        Proposal,
        machines::{Ask, Back},
    },
    view::View,
};

struct Card {
    was: String,
    chosen: u64,
}

#[derive(Template)]
#[template(path = "places/machines/recover.html")]
struct RecoverFields {
    machines: Vec<(u64, String)>,
    start: bool,
    host: u64,
    hosts: Vec<(u64, String)>,
    /// Of a single machine.
    cards: Vec<Card>,
    networks: Vec<(u64, String)>,
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let (ids, named) = chosen(view, fields);
    let one = match ids.as_slice() {
        [id] => view.estate.machines.get(id),
        _ => None,
    };
    let cluster = ids
        .first()
        .and_then(|id| view.estate.machines.get(id)?.cluster);
    let picked: Vec<Option<NetworkId>> = fields
        .all("networks")
        .map(|n| n.parse().ok().filter(|n| *n > 0).map(NetworkId))
        .collect();
    let host: Option<u64> = fields.get("host").parse().ok().filter(|h| *h > 0);
    let how = Back {
        start: fields.ticked("start", false),
        host: host.map(HostId),
        networks: picked,
    };
    let nics = one.map(|m| m.nics.as_slice()).unwrap_or_default();
    let cards = nics.iter().enumerate().map(|(n, nic)| Card {
        was: match nic.network {
            None => "none".to_owned(),
            Some(id) => match view.estate.networks.get(&id) {
                Some(network) => network.name.clone(),
                None => "one that is gone".to_owned(),
            },
        },
        chosen: how.networks.get(n).copied().flatten().map_or(0, |id| id.0),
    });
    let shown = RecoverFields {
        start: how.start,
        host: host.unwrap_or(0),
        hosts: hosts(view, cluster),
        cards: cards.collect(),
        networks: networks(view, cluster),
        machines: named.clone(),
    };
    Filled {
        title: format!("Bring back {}", what(&named)),
        lead: "A deleted machine comes back as it was, unless you say otherwise.".into(),
        run: format!("Run: bring back {}", what(&named)),
        danger: false,
        back: back(&named),
        fields: render(&shown),
        ask: Proposal::Machines(Ask::Recover { machines: ids, how }),
        wrong: vec![],
    }
}
