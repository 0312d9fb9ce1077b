//! Who speaks to whom, by pair and role: what a firewall between them must let through. It is read from the estate alone, so
//! it holds what there is now and nothing that might be.

use crate::{
    estate::{Array, ArrayKind, Balancer, Cluster, Estate, Host, NetRole},
    fronts::members,
    ids::{ArrayId, ClusterId},
};
use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
};

#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Protocol {
    Tcp,
    Udp,
}

impl Protocol {
    pub fn word(self) -> &'static str {
        match self {
            Protocol::Tcp => "tcp",
            Protocol::Udp => "udp",
        }
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Port {
    One(u16),
    /// Whoever is called names one each time, above 1023.
    Named,
}

impl Port {
    pub fn words(self) -> String {
        match self {
            Port::One(port) => port.to_string(),
            Port::Named => "1024-65535".into(),
        }
    }
}

/// One end of it.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Side {
    pub who: String,
    /// Addresses or subnets, in their order; none where it is this manager, which is wherever it was started.
    pub addresses: Vec<String>,
}

#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Flow {
    /// The network that it goes over.
    pub role: NetRole,
    pub from: Side,
    pub to: Side,
    pub protocol: Protocol,
    pub port: Port,
    pub why: &'static str,
}

/// What the estate does not know of the manager itself.
#[derive(Debug, Clone, Copy, Default)]
pub struct Own {
    /// Where controllers read what hosts are installed from.
    pub media: Option<u16>,
}

/// All of them, by role, then by pair.
pub fn flows(estate: &Estate, own: Own) -> Vec<Flow> {
    let mut all = Vec::new();
    let mut groups: BTreeMap<Option<ClusterId>, Vec<Arc<Host>>> = BTreeMap::new();
    for host in estate.hosts.values() {
        groups.entry(host.cluster).or_default().push(host.clone());
    }
    for (cluster, hosts) in &groups {
        let cluster = cluster.and_then(|c| estate.clusters.get(&c));
        of_hosts(&mut all, own, cluster.map(|c| &**c), hosts);
        if let Some(cluster) = cluster {
            of_cluster(&mut all, estate, cluster, hosts);
        }
    }
    for array in estate.arrays.values() {
        let to = format!("management of {}", array.name);
        let at = array.controllers.iter().map(|c| c.address.as_str());
        let why = "what is on it, and who may reach it";
        called(&mut all, &manager(), (&to, at), NetRole::OutOfBand, why);
    }
    for switch in estate.switches.values() {
        let at = [switch.access.address.as_str()];
        let why = "its ports are read";
        called(
            &mut all,
            &manager(),
            (&switch.name, at),
            NetRole::OutOfBand,
            why,
        );
    }
    for balancer in estate.balancers.values() {
        let to = format!("management of {}", balancer.name);
        let at = [balancer.access.address.as_str()];
        called(
            &mut all,
            &manager(),
            (&to, at),
            NetRole::OutOfBand,
            "service fronts are set, and who serves is read",
        );
        passed_on(&mut all, estate, balancer);
    }
    all.sort();
    all.dedup();
    all
}

/// What a load balancer passes on to the members of each of its fronts.
fn passed_on(all: &mut Vec<Flow>, estate: &Estate, balancer: &Balancer) {
    for front in estate.fronts.values().filter(|f| f.balancer == balancer.id) {
        let at: Vec<String> = members(estate, front).iter().map(|m| m.key()).collect();
        let to = format!("members of {}", front.name);
        let at = at.iter().map(String::as_str);
        called(
            all,
            &side(balancer.name.clone(), std::iter::empty()),
            (&to, at),
            NetRole::Guest,
            "connections that are passed on, and health",
        );
    }
}

fn manager() -> Side {
    Side {
        who: "this manager".into(),
        addresses: vec![],
    }
}

/// `ip:port`, `[ip]:port`.
fn split(address: &str) -> Option<(String, u16)> {
    let (ip, port) = address.rsplit_once(':')?;
    let ip = ip.trim_start_matches('[').trim_end_matches(']');
    Some((ip.to_owned(), port.parse().ok()?))
}

/// Connections to addresses that listen, one flow for each port.
fn called<'a>(
    all: &mut Vec<Flow>,
    from: &Side,
    (who, addresses): (&str, impl IntoIterator<Item = &'a str>),
    role: NetRole,
    why: &'static str,
) {
    let mut by_port: BTreeMap<u16, BTreeSet<String>> = BTreeMap::new();
    for (ip, port) in addresses.into_iter().filter_map(split) {
        by_port.entry(port).or_default().insert(ip);
    }
    for (port, ips) in by_port {
        all.push(Flow {
            role,
            from: from.clone(),
            to: Side {
                who: who.to_owned(),
                addresses: ips.into_iter().collect(),
            },
            protocol: Protocol::Tcp,
            port: Port::One(port),
            why,
        });
    }
}

fn agents(hosts: &[Arc<Host>]) -> impl Iterator<Item = &str> {
    hosts.iter().map(|h| h.access.address.as_str())
}

fn controllers(hosts: &[Arc<Host>]) -> impl Iterator<Item = &str> {
    hosts
        .iter()
        .filter_map(|h| Some(h.bmc.as_ref()?.address.as_str()))
}

fn side<'a>(who: String, addresses: impl Iterator<Item = &'a str>) -> Side {
    let ips: BTreeSet<String> = addresses.filter_map(split).map(|(ip, _)| ip).collect();
    Side {
        who,
        addresses: ips.into_iter().collect(),
    }
}

fn of_hosts(all: &mut Vec<Flow>, own: Own, cluster: Option<&Cluster>, hosts: &[Arc<Host>]) {
    let of = cluster.map_or_else(|| "in no cluster".to_owned(), |c| format!("of {}", c.name));
    let (them, beneath) = (format!("hosts {of}"), format!("controllers of hosts {of}"));
    let why = "orders, reports, consoles";
    called(
        all,
        &manager(),
        (&them, agents(hosts)),
        NetRole::Management,
        why,
    );
    let why = "power, installation, the host's own console";
    called(
        all,
        &manager(),
        (&beneath, controllers(hosts)),
        NetRole::OutOfBand,
        why,
    );
    let from = side(beneath, controllers(hosts));
    if let Some(port) = own.media.filter(|_| !from.addresses.is_empty()) {
        all.push(Flow {
            role: NetRole::OutOfBand,
            from,
            to: manager(),
            protocol: Protocol::Tcp,
            port: Port::One(port),
            why: "what they install hosts from",
        });
    }
}

fn of_cluster(all: &mut Vec<Flow>, estate: &Estate, cluster: &Cluster, hosts: &[Arc<Host>]) {
    let them = format!("hosts of {}", cluster.name);
    moves(all, estate, cluster, (&them, hosts));
    storage(all, estate, cluster, (&them, hosts));
    time(all, cluster, (&them, hosts));
    keepers(all, estate, cluster, hosts);
}

/// Hosts on the cluster's networks of a role: by the subnets there, where those are known, else by the hosts' own addresses.
fn on(
    estate: &Estate,
    cluster: &Cluster,
    role: NetRole,
    (them, hosts): (&str, &[Arc<Host>]),
) -> Side {
    let networks = estate.networks_of(cluster.id);
    let of_role = networks.iter().filter(|n| n.role == role);
    let nets: BTreeSet<String> = of_role
        .flat_map(|n| n.subnets.iter().map(|s| s.net.trunc().to_string()))
        .collect();
    if nets.is_empty() {
        return side(them.to_owned(), agents(hosts));
    }
    Side {
        who: them.to_owned(),
        addresses: nets.into_iter().collect(),
    }
}

fn moves(
    all: &mut Vec<Flow>,
    estate: &Estate,
    cluster: &Cluster,
    (them, hosts): (&str, &[Arc<Host>]),
) {
    let networks = estate.networks_of(cluster.id);
    if networks.iter().all(|n| n.role != NetRole::Migration) || hosts.len() < 2 {
        return;
    }
    let side = on(estate, cluster, NetRole::Migration, (them, hosts));
    all.push(Flow {
        role: NetRole::Migration,
        from: side.clone(),
        to: side,
        protocol: Protocol::Tcp,
        port: Port::Named,
        why: "memory of machines that move",
    });
}

fn storage(
    all: &mut Vec<Flow>,
    estate: &Estate,
    cluster: &Cluster,
    (them, hosts): (&str, &[Arc<Host>]),
) {
    let volumes = estate.volumes_of(cluster);
    let arrays: BTreeSet<ArrayId> = volumes
        .iter()
        .filter_map(|v| Some(v.backing.as_ref()?.array))
        .collect();
    let from = on(estate, cluster, NetRole::Storage, (them, hosts));
    if volumes.iter().any(|v| v.pooled.is_some()) && hosts.len() > 1 {
        all.push(Flow {
            role: NetRole::Storage,
            from: from.clone(),
            to: from.clone(),
            protocol: Protocol::Tcp,
            port: Port::Named,
            why: "copies of what is on the hosts' own disks",
        });
    }
    for array in arrays.iter().filter_map(|id| estate.arrays.get(id)) {
        let Array {
            name,
            kind,
            portals,
            ..
        } = &**array;
        let why = match kind {
            ArrayKind::Block => "disks of machines, by iSCSI",
            ArrayKind::File => "disks of machines, by NFS",
        };
        let to = format!("portals of {name}");
        called(
            all,
            &from,
            (&to, portals.iter().map(String::as_str)),
            NetRole::Storage,
            why,
        );
    }
}

fn time(all: &mut Vec<Flow>, cluster: &Cluster, (them, hosts): (&str, &[Arc<Host>])) {
    let mut by_port: BTreeMap<u16, BTreeSet<String>> = BTreeMap::new();
    for (ip, port) in cluster.time.iter().filter_map(|t| split(t)) {
        by_port.entry(port).or_default().insert(ip);
    }
    let from = side(them.to_owned(), agents(hosts));
    for (port, ips) in by_port {
        for from in [from.clone(), manager()] {
            all.push(Flow {
                role: NetRole::Management,
                from,
                to: Side {
                    who: "time sources".into(),
                    addresses: ips.iter().cloned().collect(),
                },
                protocol: Protocol::Udp,
                port: Port::One(port),
                why: "the time (NTP)",
            });
        }
    }
}

/// Keepers act without this manager: they speak to whatever it would.
fn keepers(all: &mut Vec<Flow>, estate: &Estate, cluster: &Cluster, hosts: &[Arc<Host>]) {
    let Some(keeping) = &cluster.keeping else {
        return;
    };
    let on: Vec<Arc<Host>> = keeping
        .hosts
        .iter()
        .filter_map(|h| estate.hosts.get(h))
        .cloned()
        .collect();
    if on.is_empty() {
        return;
    }
    let from = side(format!("keepers of {}", cluster.name), agents(&on));
    let to = format!("hosts of {}", cluster.name);
    called(
        all,
        &from,
        (&to, agents(hosts)),
        NetRole::Management,
        "who is there, and starts of machines",
    );
    let to = format!("controllers of hosts of {}", cluster.name);
    called(
        all,
        &from,
        (&to, controllers(hosts)),
        NetRole::OutOfBand,
        "a host that failed is switched off",
    );
    let volumes = estate.volumes_of(cluster);
    let arrays: BTreeSet<ArrayId> = volumes
        .iter()
        .filter_map(|v| Some(v.backing.as_ref()?.array))
        .collect();
    for array in arrays.iter().filter_map(|id| estate.arrays.get(id)) {
        let to = format!("management of {}", array.name);
        let at = array.controllers.iter().map(|c| c.address.as_str());
        called(
            all,
            &from,
            (&to, at),
            NetRole::OutOfBand,
            "a host that failed is shut out",
        );
    }
}
