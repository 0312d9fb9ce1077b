//! The networks of a build sheet: a row for each, to begin with those of a cluster that is there.

use crate::frame::{Fields, consequences::Wrong, fields::whole};
use std::{collections::BTreeSet, sync::Arc};
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
