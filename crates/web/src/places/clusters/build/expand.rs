//! The build sheet for hosts that join a cluster which is there: all but the new hosts is as it is.

use crate::frame::Fields;
use std::net::IpAddr;
use zastrugi_core::{
    estate::{Cluster, ClusterKind, Demand, NetRole},
    ids::ClusterId,
    rooms::{building::Build, installing::Install, networks::CreateNetwork},
    view::View,
};

/// The cluster that they join, and what its hosts have.
pub(super) struct Into {
    pub(super) id: u64,
    pub(super) name: String,
    pub(super) site: String,
    pub(super) networks: Vec<String>,
    pub(super) volumes: Vec<String>,
    /// Whom its hosts ask for the time.
    pub(super) time: Vec<String>,
    /// The next of its hosts' names, as a pattern; empty where they follow none.
    pub(super) pattern: String,
    /// The first address behind those of its hosts.
    pub(super) first: String,
    /// Of the hosts' own addresses.
    pub(super) management: Vec<CreateNetwork>,
}

pub(super) fn into(view: &View, fields: &Fields) -> Option<Into> {
    let id = ClusterId(fields.get("into").parse().ok()?);
    let cluster = view.estate.clusters.get(&id)?;
    let mut networks = view.estate.networks_of(id);
    networks.sort_by_key(|n| (n.role, n.vlan));
    let management = networks.iter().filter(|n| n.role == NetRole::Management);
    let management = management.map(|n| CreateNetwork {
        name: (&n.name).into(),
        cluster: Some(id),
        role: n.role,
        vlan: n.vlan,
        mtu: n.mtu,
        subnets: n.subnets.clone(),
        uplinks: n.uplinks.clone(),
    });
    let volumes = view.estate.volumes_of(cluster);
    Some(Into {
        id: id.0,
        name: cluster.name.clone(),
        time: cluster.time.clone(),
        site: view
            .estate
            .sites
            .get(&cluster.site)
            .map_or_else(String::new, |s| s.name.clone()),
        management: management.collect(),
        networks: networks.iter().map(|n| n.name.clone()).collect(),
        volumes: volumes.iter().map(|v| v.name.clone()).collect(),
        pattern: next_name(view, cluster),
        first: next_address(view, cluster),
    })
}

/// `skua-{05}` behind `skua-04`.
fn next_name(view: &View, cluster: &Cluster) -> String {
    let split = |name: &str| {
        let head = name.trim_end_matches(|c: char| c.is_ascii_digit());
        let digits = &name[head.len()..];
        Some((head.to_owned(), digits.len(), digits.parse::<u32>().ok()?))
    };
    let hosts = view.estate.hosts_in(cluster.id);
    let last = hosts
        .filter_map(|h| split(&h.name))
        .max_by_key(|(_, _, n)| *n);
    let Some((head, width, mut n)) = last else {
        return String::new();
    };
    let taken = |n: u32| {
        let name = format!("{head}{n:0width$}");
        view.estate.host_named(&name).is_some()
    };
    while taken(n) {
        n = n.saturating_add(1);
    }
    format!("{head}{{{n:0width$}}}")
}

/// One behind the highest of its hosts that no host has.
fn next_address(view: &View, cluster: &Cluster) -> String {
    let own = |address: &str| address.parse::<std::net::SocketAddr>().ok().map(|a| a.ip());
    let hosts = view.estate.hosts_in(cluster.id);
    let last = hosts.filter_map(|h| own(&h.access.address)).max();
    let all: Vec<IpAddr> = view
        .estate
        .hosts
        .values()
        .filter_map(|h| own(&h.access.address))
        .collect();
    let mut next = last.and_then(after);
    while next.is_some_and(|ip| all.contains(&ip)) {
        next = next.and_then(after);
    }
    next.map_or_else(String::new, |ip| ip.to_string())
}

fn after(ip: IpAddr) -> Option<IpAddr> {
    Some(match ip {
        IpAddr::V4(v4) => IpAddr::V4(u32::from(v4).checked_add(1)?.into()),
        IpAddr::V6(v6) => IpAddr::V6(u128::from(v6).checked_add(1)?.into()),
    })
}

/// What a new host of a cluster brings with it: nothing but itself.
pub(super) fn joins(into: &Into, install: Install, fencing: bool) -> Build {
    Build {
        names: None,
        into: Some(ClusterId(into.id)),
        name: (&into.name).into(),
        kind: ClusterKind::default(),
        install,
        networks: vec![],
        level: None,
        demand: Demand {
            failures: 0,
            domains: [false; 3],
            enforced: false,
        },
        volume: None,
        keepers: false,
        fencing,
    }
}

/// What stands around the sheet.
pub(super) struct Words {
    pub(super) title: String,
    pub(super) lead: String,
    pub(super) run: String,
    pub(super) back: String,
}

impl Words {
    pub(super) fn of(into: Option<&Into>, count: usize) -> Words {
        let hosts = match count {
            1 => "1 host".to_owned(),
            n => format!("{n} hosts"),
        };
        match into {
            Some(into) => Words {
                title: format!("Expand {}", into.name),
                lead: "Hosts on which nothing is installed become like those that are there, in one run.".into(),
                run: format!("Run: expand {} by {hosts}", into.name),
                back: format!("/clusters/{}", into.id),
            },
            None => Words {
                title: "Build a cluster".into(),
                lead: "From hosts on which nothing is installed to a cluster that takes machines, in one run.".into(),
                run: format!("Run: build it of {hosts}"),
                back: "/hosts".into(),
            },
        }
    }
}
