//! The sheet of a front: made new, or changed; and the sheet that removes it.

use super::{
    balancer::IdFields,
    manner::{self, Choice, MannerFields, number},
};
use crate::frame::{
    AtDesk, Fields,
    consequences::Wrong,
    sheet::{Filled, render},
};
use askama::Template;
use futures::future::BoxFuture;
use std::{net::IpAddr, sync::Arc};
use zastrugi_core::{
    endpoint::Password,
    estate::{Front, Shown},
    ids::{BalancerId, FrontId, NetworkId},
    rooms::{
        Proposal,
        fronts::{Ask, PutFront, next_address},
    },
    view::View,
};

#[derive(Template)]
#[template(path = "places/networks/fronts/sheet_fields.html")]
struct FrontFields {
    id: Option<u64>,
    name: String,
    balancers: Vec<Choice>,
    networks: Vec<Choice>,
    address: String,
    port: String,
    label: String,
    labels: Vec<String>,
    serves: String,
    manner: MannerFields,
    /// As pasted.
    certificate: String,
    /// Whether a key is kept.
    kept: bool,
}

fn chosen(view: &View, fields: &Fields) -> Option<Arc<Front>> {
    let id = fields.ids::<FrontId>("ids").first().copied()?;
    view.estate.fronts.get(&id).cloned()
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let estate = &view.estate;
    let front = chosen(view, fields);
    let was = front.as_deref();
    let mut wrong = Vec::new();
    let (manner, typed_manner) = manner::read(fields, was.map(|f| &f.manner), &mut wrong);
    let port = fields.or("port", &was.map_or(80, |f| f.port).to_string());
    let serves = fields.or("serves", &was.map_or(8080, |f| f.serves).to_string());
    let typed = fields.or(
        "address",
        &was.map_or_else(String::new, |f| f.address.to_string()),
    );
    let address = match typed.trim() {
        "" => None,
        text => text
            .parse::<IpAddr>()
            .map_err(|_| wrong.push(("address".to_owned(), format!("“{text}” is no address."))))
            .ok(),
    };
    let first = estate.balancers.keys().next().copied();
    let balancer = fields
        .get("balancer")
        .parse()
        .ok()
        .map(BalancerId)
        .or(was.map(|f| f.balancer))
        .or(first);
    let network = fields
        .get("network")
        .parse()
        .ok()
        .map(NetworkId)
        .or(was.map(|f| f.network))
        .or_else(|| likely(view));
    let (pem, shown) = certificate(fields, was, &mut wrong);
    let name = fields.or("name", was.map_or("", |f| f.name.as_str()));
    let label = fields.or("label", was.map_or("", |f| f.label.as_str()));
    let ask = Proposal::Fronts(Ask::Put(PutFront {
        front: was.map(|f| f.id),
        name: (&name).into(),
        balancer,
        network,
        address,
        port: number(&port, "port", &mut wrong),
        label: (&label).into(),
        serves: number(&serves, "serves", &mut wrong),
        manner,
        shown,
        key: if fields.secret("password").trim().is_empty() {
            Password::Missing
        } else {
            Password::Typed
        },
    }));
    let balancers = estate
        .balancers
        .values()
        .map(|b| (b.id.0.to_string(), b.name.clone(), Some(b.id) == balancer));
    Filled {
        title: was.map_or_else(|| "Make a front".into(), |f| format!("Change front {}", f.name)),
        lead: "One address for machines behind a load balancer. Who carries the label is a member by itself.".into(),
        run: if was.is_none() { "Run: make it" } else { "Run: change it" }.into(),
        danger: false,
        back: was.map_or_else(|| "/networks".into(), |f| format!("/fronts/{}", f.id.0)),
        fields: render(&FrontFields {
            id: was.map(|f| f.id.0),
            name,
            balancers: balancers.collect(),
            networks: networks(view, network),
            address: typed,
            port,
            label,
            labels: estate.labels().map(|(l, _)| l.to_owned()).take(200).collect(),
            serves,
            manner: typed_manner,
            certificate: pem,
            kept: was.is_some_and(|f| f.certificate.is_some()),
        }),
        ask,
        wrong,
    }
}

/// Whether somebody has the address that it shall have.
pub(crate) fn prepare<'a>(desk: &'a AtDesk, fields: &'a Fields) -> BoxFuture<'a, ()> {
    Box::pin(async move {
        let view = desk.look();
        let Proposal::Fronts(Ask::Put(ask)) = fill(&view, fields).ask else {
            return;
        };
        let Some(network) = ask.network.and_then(|n| view.estate.networks.get(&n)) else {
            return;
        };
        let next = || next_address(&view.estate, network, desk.now());
        if let Some(address) = ask.address.or_else(next) {
            desk.ask_for_neighbours(network.id, &[address]).await;
        }
    })
}

/// As pasted, else as it is; and what it says.
fn certificate(
    fields: &Fields,
    was: Option<&Front>,
    wrong: &mut Vec<Wrong>,
) -> (String, Option<Shown>) {
    let held = was
        .and_then(|f| f.certificate.as_ref())
        .map_or("", |c| c.shown.pem.as_str());
    let pem = fields.or("certificate", held);
    if pem.trim().is_empty() {
        return (pem, None);
    }
    let shown = zastrugi_formats::certificate::read(&pem)
        .map_err(|words| wrong.push(("certificate".to_owned(), words)));
    (pem, shown.ok())
}

fn has_virtual(n: &zastrugi_core::estate::Network) -> bool {
    let mut ranges = n.subnets.iter().flat_map(|s| &s.ranges);
    ranges.any(|r| r.part == zastrugi_core::estate::Part::Virtual)
}

/// A network with addresses that are meant for it.
fn likely(view: &View) -> Option<NetworkId> {
    let mut all = view.estate.networks.values().filter(|n| n.ready);
    all.find(|n| has_virtual(n)).map(|n| n.id)
}

fn networks(view: &View, now: Option<NetworkId>) -> Vec<Choice> {
    let estate = &view.estate;
    let cluster = |id| estate.clusters.get(&id).map_or("", |c| c.name.as_str());
    let ready = estate
        .networks
        .values()
        .filter(|n| n.ready && !n.subnets.is_empty());
    let words = |n: &zastrugi_core::estate::Network| match has_virtual(n) {
        true => format!("{} of {}", n.name, cluster(n.cluster)),
        false => format!("{} of {}: no virtual addresses", n.name, cluster(n.cluster)),
    };
    let mut all: Vec<Choice> = ready
        .map(|n| (n.id.0.to_string(), words(n), Some(n.id) == now))
        .collect();
    all.sort_by(|a, b| a.1.cmp(&b.1));
    all
}

pub(crate) fn remove(view: &View, fields: &Fields) -> Filled {
    let front = chosen(view, fields);
    let id = front.as_ref().map_or(FrontId(0), |f| f.id);
    let name = front.as_ref().map_or("a front", |f| f.name.as_str());
    Filled {
        title: format!("Remove front {name}"),
        lead: "Its address is free again; its machines go on.".into(),
        run: format!("Run: remove {name}"),
        danger: true,
        back: format!("/fronts/{}", id.0),
        fields: render(&IdFields {
            id: id.0,
            words: "Nothing is done to the machines behind it.",
        }),
        ask: Proposal::Fronts(Ask::Remove { front: id }),
        wrong: vec![],
    }
}
