//! The sheet for a new network on all hosts of a cluster.

use crate::frame::{
    Fields,
    consequences::Wrong,
    sheet::{Filled, render},
};
use askama::Template;
use std::collections::BTreeSet;
use zastrugi_core::rooms::networks;
use zastrugi_core::{
    addressing::range,
    estate::{NetRole, Part, Subnet},
    ids::ClusterId,
    rooms::Proposal,
    rooms::networks::CreateNetwork,
    view::View,
};

/// (family, subnet, gateway, guests, hosts, example)
type SubnetField = (&'static str, String, String, String, String, &'static str);

#[derive(Template)]
#[template(path = "places/networks/new.html")]
struct NetworkFields {
    name: String,
    cluster: u64,
    clusters: Vec<(u64, String)>,
    role: String,
    roles: Vec<&'static str>,
    vlan: String,
    mtu: String,
    uplinks: Vec<(String, bool)>,
    subnets: Vec<SubnetField>,
}

fn number(text: &str, field: &str, wrong: &mut Vec<Wrong>) -> Option<u32> {
    match text {
        "" => None,
        text => text.parse().map_or_else(
            |_| {
                let words = if text.contains([',', '-', ' ']) {
                    format!("“{text}” is a list; one network has one VLAN.")
                } else {
                    format!("“{text}” is not a whole number.")
                };
                wrong.push((field.to_owned(), words));
                Some(0)
            },
            Some,
        ),
    }
}

/// The subnet of one row of the form; what can't be read is said.
fn subnet(row: &SubnetField, wrong: &mut Vec<Wrong>) -> Option<Subnet> {
    let (_, net, gateway, guests, hosts, example) = row;
    if net.is_empty() {
        for (text, field) in [(gateway, "gateway"), (guests, "ranges"), (hosts, "ranges")] {
            if !text.is_empty() {
                wrong.push((field.to_owned(), "It needs a subnet first.".into()));
            }
        }
        return None;
    }
    let Ok(read) = net.parse() else {
        wrong.push((
            "subnet".into(),
            format!("“{net}” is no subnet such as {example}."),
        ));
        return None;
    };
    let gateway = match gateway.as_str() {
        "" => None,
        text => text.parse().map_or_else(
            |_| {
                wrong.push(("gateway".into(), format!("“{text}” is no address.")));
                None
            },
            Some,
        ),
    };
    let mut ranges = Vec::new();
    for (text, part) in [(guests, Part::Guests), (hosts, Part::Hosts)] {
        for piece in text.split(',').map(str::trim).filter(|p| !p.is_empty()) {
            match range(&piece.replace('–', "-"), part) {
                Ok(range) => ranges.push(range),
                Err(words) => wrong.push(("ranges".into(), words)),
            }
        }
    }
    Some(Subnet {
        net: read,
        gateway,
        ranges,
    })
}

/// The uplinks that the cluster's hosts have; all are chosen before anybody said otherwise.
fn uplinks(view: &View, cluster: Option<ClusterId>, fields: &Fields) -> Vec<(String, bool)> {
    let given: BTreeSet<&str> = fields.all("uplink").collect();
    let hosts = cluster.into_iter().flat_map(|c| view.estate.hosts_in(c));
    let known: BTreeSet<String> = hosts
        .flat_map(|h| h.uplinks.iter().map(|u| u.name.clone()))
        .collect();
    known
        .into_iter()
        .map(|u| {
            let chosen = !fields.has("sent") || given.contains(u.as_str());
            (u, chosen)
        })
        .collect()
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let estate = &view.estate;
    let mut wrong = Vec::new();
    let first = estate.clusters.keys().next().copied();
    let cluster = fields.get("cluster").parse().ok().map(ClusterId).or(first);
    let uplinks = uplinks(view, cluster, fields);
    let all = |name: &str, i: usize| fields.all(name).nth(i).unwrap_or_default().to_owned();
    let subnets: Vec<SubnetField> = [("IPv4", "10.2.0.0/24"), ("IPv6", "2001:db8:2::/64")]
        .into_iter()
        .enumerate()
        .map(|(i, (family, example))| {
            (
                family,
                all("subnet", i),
                all("gateway", i),
                all("guests", i),
                all("hosts", i),
                example,
            )
        })
        .collect();
    let (name, vlan, mtu) = (
        fields.get("name").to_owned(),
        fields.get("vlan").to_owned(),
        fields.or("mtu", "1500"),
    );
    let role = fields.or("role", "guest");
    let ask = CreateNetwork {
        name: (&name).into(),
        cluster,
        role: NetRole::ALL
            .into_iter()
            .find(|r| r.word() == role)
            .unwrap_or(NetRole::Guest),
        vlan: number(&vlan, "vlan", &mut wrong).map(|v| u16::try_from(v).unwrap_or(u16::MAX)),
        mtu: number(&mtu, "mtu", &mut wrong).unwrap_or(0),
        subnets: subnets
            .iter()
            .filter_map(|row| subnet(row, &mut wrong))
            .collect(),
        uplinks: uplinks
            .iter()
            .filter(|(_, chosen)| *chosen)
            .map(|(u, _)| u.clone())
            .collect(),
    };
    let count = cluster.map_or(0, |c| estate.hosts_in(c).count());
    Filled {
        title: "New network".into(),
        lead:
            "One run sets it up on every host of the cluster, after each switch port was looked at."
                .into(),
        run: format!("Run: set it up on {count} hosts"),
        danger: false,
        back: "/networks".into(),
        fields: render(&NetworkFields {
            name,
            cluster: cluster.map_or(0, |c| c.0),
            clusters: estate
                .clusters
                .values()
                .map(|c| (c.id.0, c.name.clone()))
                .collect(),
            role,
            roles: NetRole::ALL.into_iter().map(NetRole::word).collect(),
            vlan,
            mtu,
            uplinks,
            subnets,
        }),
        ask: Proposal::Networks(networks::Ask::Create(ask)),
        wrong,
    }
}
