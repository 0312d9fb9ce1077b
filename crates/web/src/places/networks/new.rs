//! The sheet for a new network on all hosts of a cluster.

use crate::frame::{
    Fields,
    consequences::Wrong,
    fields::whole,
    sheet::{Filled, render},
};
use askama::Template;
use std::collections::BTreeSet;
use zastrugi_core::rooms::networks;
use zastrugi_core::{
    addressing::range,
    estate::{NetRole, Network, Part, Subnet},
    ids::ClusterId,
    rooms::Proposal,
    rooms::networks::{ChangeNetwork, CreateNetwork},
    view::View,
};

/// (family, subnet, gateway, guests, hosts, example)
type SubnetField = (&'static str, String, String, String, String, &'static str);

/// What a network has, as fields: for a new one and for one that is there.
pub(super) struct Setup {
    role: String,
    roles: Vec<&'static str>,
    mtu: String,
    uplinks: Vec<(String, bool)>,
    subnets: Vec<SubnetField>,
}

/// The same, read.
pub(super) struct Read {
    pub(super) role: NetRole,
    pub(super) mtu: u32,
    pub(super) uplinks: BTreeSet<String>,
    pub(super) subnets: Vec<Subnet>,
}

#[derive(Template)]
#[template(path = "places/networks/change.html")]
struct ChangeFields {
    id: u64,
    setup: Setup,
}

#[derive(Template)]
#[template(path = "places/networks/new.html")]
struct NetworkFields {
    name: String,
    cluster: u64,
    clusters: Vec<(u64, String)>,
    vlan: String,
    setup: Setup,
}

fn number(text: &str, field: &str, wrong: &mut Vec<Wrong>) -> Option<u32> {
    match text {
        "" => None,
        text => match whole(text) {
            Ok(number) => Some(number),
            Err(words) => {
                let list = text.trim_start_matches('-').contains([',', '-', ' ']);
                let words = if list {
                    format!("“{text}” is a list; one network has one VLAN.")
                } else {
                    words
                };
                wrong.push((field.to_owned(), words));
                Some(0)
            }
        },
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

/// The uplinks that the cluster's hosts have; those of the network that is there, else all, before anybody said otherwise.
fn uplinks(
    view: &View,
    cluster: Option<ClusterId>,
    was: Option<&Network>,
    fields: &Fields,
) -> Vec<(String, bool)> {
    let given: BTreeSet<&str> = fields.all("uplink").collect();
    let hosts = cluster.into_iter().flat_map(|c| view.estate.hosts_in(c));
    let known: BTreeSet<String> = hosts
        .flat_map(|h| h.uplinks.iter().map(|u| u.name.clone()))
        .collect();
    let before = |u: &String| was.is_none_or(|n| n.uplinks.contains(u));
    known
        .into_iter()
        .map(|u| {
            let chosen = if fields.has("sent") {
                given.contains(u.as_str())
            } else {
                before(&u)
            };
            (u, chosen)
        })
        .collect()
}

const FAMILIES: [(&str, &str); 2] = [("IPv4", "10.2.0.0/24"), ("IPv6", "2001:db8:2::/64")];

/// The rows of subnets as they were typed, else as they are.
fn rows(was: Option<&Network>, fields: &Fields) -> Vec<SubnetField> {
    let typed = |name: &str, i: usize| fields.all(name).nth(i).unwrap_or_default().to_owned();
    let ranges = |s: &Subnet, part: Part| {
        let of = s.ranges.iter().filter(|r| r.part == part);
        of.map(|r| format!("{}-{}", r.first, r.last))
            .collect::<Vec<_>>()
            .join(", ")
    };
    let row = |(i, (family, example)): (usize, (&'static str, &'static str))| {
        let known = was.filter(|_| !fields.has("sent")).and_then(|n| {
            n.subnets
                .iter()
                .find(|s| s.net.addr().is_ipv4() == (i == 0))
        });
        match known {
            Some(s) => (
                family,
                s.net.to_string(),
                s.gateway.map_or_else(String::new, |g| g.to_string()),
                ranges(s, Part::Guests),
                ranges(s, Part::Hosts),
                example,
            ),
            None => (
                family,
                typed("subnet", i),
                typed("gateway", i),
                typed("guests", i),
                typed("hosts", i),
                example,
            ),
        }
    };
    FAMILIES.into_iter().enumerate().map(row).collect()
}

fn setup(
    view: &View,
    cluster: Option<ClusterId>,
    was: Option<&Network>,
    fields: &Fields,
    wrong: &mut Vec<Wrong>,
) -> (Setup, Read) {
    let uplinks = uplinks(view, cluster, was, fields);
    let subnets = rows(was, fields);
    let role = fields.or("role", was.map_or("guest", |n| n.role.word()));
    let mtu = fields.or(
        "mtu",
        &was.map_or_else(|| "1500".into(), |n| n.mtu.to_string()),
    );
    let read = Read {
        role: NetRole::ALL
            .into_iter()
            .find(|r| r.word() == role)
            .unwrap_or(NetRole::Guest),
        mtu: number(&mtu, "mtu", wrong).unwrap_or(0),
        uplinks: uplinks
            .iter()
            .filter(|(_, chosen)| *chosen)
            .map(|(u, _)| u.clone())
            .collect(),
        subnets: subnets
            .iter()
            .filter_map(|row| subnet(row, wrong))
            .collect(),
    };
    let shown = Setup {
        role,
        roles: NetRole::ALL.into_iter().map(NetRole::word).collect(),
        mtu,
        uplinks,
        subnets,
    };
    (shown, read)
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let estate = &view.estate;
    let mut wrong = Vec::new();
    let first = estate.clusters.keys().next().copied();
    let cluster = fields.get("cluster").parse().ok().map(ClusterId).or(first);
    let (name, vlan) = (fields.get("name").to_owned(), fields.get("vlan").to_owned());
    let (setup, read) = setup(view, cluster, None, fields, &mut wrong);
    let ask = CreateNetwork {
        name: (&name).into(),
        cluster,
        role: read.role,
        vlan: number(&vlan, "vlan", &mut wrong).map(|v| u16::try_from(v).unwrap_or(u16::MAX)),
        mtu: read.mtu,
        subnets: read.subnets,
        uplinks: read.uplinks,
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
            vlan,
            setup,
        }),
        ask: Proposal::Networks(networks::Ask::Create(ask)),
        wrong,
    }
}

/// How a network that is there shall be.
pub(crate) fn change(view: &View, fields: &Fields) -> Filled {
    let (id, name) = super::change::chosen(view, fields);
    let network = view.estate.networks.get(&id);
    let mut wrong = Vec::new();
    let cluster = network.map(|n| n.cluster);
    let (setup, mut read) = setup(view, cluster, network.map(|n| &**n), fields, &mut wrong);
    // Ranges that the form doesn't show stay as they are.
    for subnet in &mut read.subnets {
        let was = network.and_then(|n| n.subnets.iter().find(|s| s.net == subnet.net));
        let others = was.into_iter().flat_map(|s| &s.ranges);
        subnet
            .ranges
            .extend(others.filter(|r| r.part == Part::Virtual).cloned());
        subnet.ranges.sort();
    }
    Filled {
        title: format!("Change {name}"),
        lead: "Hosts are set up again where its MTU or its uplinks change. Its name and VLAN stay."
            .into(),
        run: "Run: change it".into(),
        danger: false,
        back: format!("/networks/{}", id.0),
        fields: render(&ChangeFields { id: id.0, setup }),
        ask: Proposal::Networks(networks::Ask::Change(ChangeNetwork {
            network: id,
            role: read.role,
            mtu: read.mtu,
            subnets: read.subnets,
            uplinks: read.uplinks,
        })),
        wrong,
    }
}
