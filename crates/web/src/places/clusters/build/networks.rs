//! The networks of a build sheet: a row for each, to begin with those of a cluster that is there.

use crate::frame::{Fields, consequences::Wrong, fields::whole};
use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
};
use zastrugi_core::{
    estate::{Cluster, NetRole, Network, Subnet},
    rooms::networks::CreateNetwork,
    view::View,
};

#[derive(Debug, Clone, Default)]
pub(super) struct NetRow {
    pub(super) name: String,
    pub(super) role: String,
    pub(super) vlan: String,
    pub(super) mtu: String,
    pub(super) subnet: String,
    pub(super) gateway: String,
    pub(super) uplinks: String,
}

/// The choice of what is there at the site, instead of a cluster.
pub(super) const THERE: &str = "there";

/// The cluster that the sheet starts from.
pub(super) fn like(view: &View, fields: &Fields) -> Option<Arc<Cluster>> {
    let chosen = fields.get("like").parse::<u64>().ok();
    let mut all = view.estate.clusters.values();
    let known = |id: u64| {
        view.estate
            .clusters
            .values()
            .find(|c| c.id.0 == id)
            .cloned()
    };
    match chosen {
        Some(id) => known(id),
        None if fields.has("like") => None,
        None => all.next().cloned(),
    }
}

fn of_network(network: &Network) -> NetRow {
    let subnet = network.subnets.first();
    NetRow {
        name: network.name.clone(),
        role: network.role.word().into(),
        vlan: network.vlan.map_or_else(String::new, |v| v.to_string()),
        mtu: network.mtu.to_string(),
        subnet: subnet.map_or_else(String::new, |s| s.net.to_string()),
        gateway: subnet
            .and_then(|s| s.gateway)
            .map_or_else(String::new, |g| g.to_string()),
        uplinks: network
            .uplinks
            .iter()
            .cloned()
            .collect::<Vec<_>>()
            .join(" "),
    }
}

/// What a cluster needs at the least, where there is none to start from.
fn bare() -> Vec<NetRow> {
    let row = |role: NetRole, mtu: &str| NetRow {
        name: role.word().into(),
        role: role.word().into(),
        mtu: mtu.into(),
        ..NetRow::default()
    };
    vec![
        row(NetRole::Management, "1500"),
        row(NetRole::Migration, "9000"),
        row(NetRole::Storage, "9000"),
    ]
}

/// The networks that the clusters of a site have, each VLAN once; then VLANs that its switches carry to hosts and that nobody named.
fn there(view: &View, site: &str) -> Vec<NetRow> {
    let estate = &view.estate;
    let Some(site) = estate.site_named(site).map(|s| s.id) else {
        return bare();
    };
    let here = estate.clusters.values().filter(|c| c.site == site);
    let mut known: Vec<&Arc<Network>> = here
        .flat_map(|c| estate.networks_of(c.id))
        .filter(|n| n.ready && !n.is_isolated())
        .collect();
    known.sort_by_key(|n| (n.role, n.vlan, n.name.clone()));
    let mut vlans = BTreeSet::new();
    let mut rows: Vec<NetRow> = known
        .into_iter()
        .filter(|n| vlans.insert(n.vlan))
        .map(|n| of_network(n))
        .collect();
    let switches = estate.switches.values().filter(|s| s.site == site);
    let ports = switches
        .flat_map(|s| s.ports.values())
        .filter(|p| p.neighbour.is_some());
    let mut carried: BTreeMap<u16, (u32, BTreeSet<String>)> = BTreeMap::new();
    for port in ports {
        for vlan in &port.tagged {
            let found = carried.entry(*vlan).or_insert((port.mtu, BTreeSet::new()));
            found.0 = found.0.min(port.mtu);
            found
                .1
                .extend(port.neighbour.iter().map(|(_, uplink)| uplink.clone()));
        }
    }
    let unnamed = carried
        .into_iter()
        .filter(|(vlan, _)| !vlans.contains(&Some(*vlan)));
    rows.extend(unnamed.map(|(vlan, (mtu, uplinks))| NetRow {
        name: format!("vlan-{vlan}"),
        role: NetRole::Guest.word().into(),
        vlan: vlan.to_string(),
        mtu: if mtu >= 9000 {
            9000.to_string()
        } else {
            1500.to_string()
        },
        uplinks: uplinks.into_iter().take(2).collect::<Vec<_>>().join(" "),
        ..NetRow::default()
    }));
    rows
}

/// The rows as they were typed, else those of the cluster that it starts from; and an empty one.
pub(super) fn rows(view: &View, fields: &Fields) -> Vec<NetRow> {
    let typed = |name: &str, i: usize| {
        fields
            .all(name)
            .nth(i)
            .unwrap_or_default()
            .trim()
            .to_owned()
    };
    let count = fields.all("net-name").count();
    let mut rows: Vec<NetRow> = if count > 0 && fields.get("look") != "like" {
        let row = |i| NetRow {
            name: typed("net-name", i),
            role: typed("net-role", i),
            vlan: typed("net-vlan", i),
            mtu: typed("net-mtu", i),
            subnet: typed("net-subnet", i),
            gateway: typed("net-gateway", i),
            uplinks: typed("net-uplinks", i),
        };
        (0..count).map(row).filter(|r| !r.name.is_empty()).collect()
    } else {
        match like(view, fields) {
            _ if fields.get("like") == THERE => there(view, fields.get("site")),
            Some(cluster) => {
                let mut all = view.estate.networks_of(cluster.id);
                all.sort_by_key(|n| (n.role, n.vlan));
                all.into_iter().map(|n| of_network(n)).collect()
            }
            None => bare(),
        }
    };
    rows.push(NetRow {
        role: NetRole::Guest.word().into(),
        mtu: "1500".into(),
        ..NetRow::default()
    });
    rows
}

/// The same, read; what can't be read is said in its row.
pub(super) fn read(rows: &[NetRow], wrong: &mut Vec<Wrong>) -> Vec<CreateNetwork> {
    let mut all = Vec::new();
    for (i, row) in rows.iter().enumerate().filter(|(_, r)| !r.name.is_empty()) {
        let mut no = |field: &str, words: String| wrong.push((format!("{field}:{i}"), words));
        let vlan = match row.vlan.as_str() {
            "" => None,
            typed => match whole(typed) {
                Ok(vlan) => Some(u16::try_from(vlan).unwrap_or(u16::MAX)),
                Err(_) if typed.contains([',', '-', ' ']) => {
                    no(
                        "vlan",
                        format!("“{typed}” is a list; one network has one VLAN."),
                    );
                    None
                }
                Err(words) => {
                    no("vlan", words);
                    None
                }
            },
        };
        let mtu = whole(&row.mtu).unwrap_or_else(|words| {
            no("mtu", words);
            1500
        });
        let gateway = match row.gateway.as_str() {
            "" => None,
            typed => typed
                .parse()
                .map_err(|_| no("gateway", format!("“{typed}” is no address.")))
                .ok(),
        };
        let subnets = match row.subnet.as_str() {
            "" => vec![],
            typed => match typed.parse() {
                Ok(net) => vec![Subnet {
                    net,
                    gateway,
                    ranges: vec![],
                }],
                Err(_) => {
                    no(
                        "subnet",
                        format!("“{typed}” is no subnet such as 10.2.0.0/24."),
                    );
                    vec![]
                }
            },
        };
        let words = row.uplinks.split(|c: char| c == ',' || c.is_whitespace());
        let uplinks: BTreeSet<String> =
            words.filter(|w| !w.is_empty()).map(str::to_owned).collect();
        all.push(CreateNetwork {
            name: (&row.name).into(),
            // The one that is built.
            cluster: None,
            role: NetRole::ALL
                .into_iter()
                .find(|r| r.word() == row.role)
                .unwrap_or(NetRole::Guest),
            vlan,
            mtu,
            subnets,
            uplinks,
        });
    }
    all
}
