//! What happens to switches and networks.

use crate::{
    estate::{Estate, HostNet, NetRole, Network, Pen, REST, Subnet, Switch, Uplink},
    ids::{HostId, NetworkId, SwitchId},
    moment::Moment,
    road::{Entry, Tale},
    runs::Object,
};
use std::{
    collections::{BTreeMap, BTreeSet},
    net::IpAddr,
};

#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    /// Its name is held; the first reading runs.
    SwitchConnecting(Box<Switch>),
    SwitchSeen(Box<Switch>),
    SwitchDropped {
        switch: SwitchId,
    },
    Planned(Box<Network>),
    Ready {
        network: NetworkId,
    },
    Gone {
        network: NetworkId,
        removed: bool,
    },
    /// From now on it shall be so.
    Changed {
        network: NetworkId,
        role: NetRole,
        mtu: u32,
        subnets: Vec<Subnet>,
        uplinks: BTreeSet<String>,
    },
    /// It shall be otherwise than its sheet said; it was not ready yet.
    Corrected {
        network: NetworkId,
        vlan: Option<u16>,
        mtu: u32,
        uplinks: BTreeSet<String>,
        subnets: Vec<Subnet>,
    },
    /// What a host says of its uplinks and networks.
    OnHost {
        host: HostId,
        uplinks: Vec<Uplink>,
        networks: BTreeMap<String, HostNet>,
    },
    /// Addresses that a machine gave up rest before they are given again.
    AddressesReleased {
        network: NetworkId,
        addresses: Vec<IpAddr>,
        at: Moment,
    },
}

impl Tale for Event {
    fn absorb(&self, pen: &mut Pen<'_>) {
        match self {
            Event::SwitchConnecting(switch) => pen.add_switch(switch),
            // A reading that comes after the switch was given up changes nothing.
            Event::SwitchSeen(switch) => pen.switch(switch.id, |s| s.clone_from(switch)),
            Event::SwitchDropped { switch } => pen.drop_switch(*switch),
            Event::Planned(network) => pen.add_network(network),
            Event::Ready { network } => pen.network(*network, |n| n.ready = true),
            Event::Gone { network, .. } => pen.drop_network(*network),
            Event::Changed {
                network,
                role,
                mtu,
                subnets,
                uplinks,
            } => pen.network(*network, |n| {
                (n.role, n.mtu) = (*role, *mtu);
                n.subnets.clone_from(subnets);
                n.uplinks.clone_from(uplinks);
            }),
            Event::Corrected {
                network,
                vlan,
                mtu,
                uplinks,
                subnets,
            } => pen.network(*network, |n| {
                (n.vlan, n.mtu) = (*vlan, *mtu);
                n.uplinks.clone_from(uplinks);
                n.subnets.clone_from(subnets);
            }),
            Event::OnHost {
                host,
                uplinks,
                networks,
            } => pen.host(*host, |h| {
                h.uplinks.clone_from(uplinks);
                h.networks.clone_from(networks);
            }),
            Event::AddressesReleased {
                network,
                addresses,
                at,
            } => pen.network(*network, |n| {
                n.released.retain(|_, since| at.since(*since) < REST);
                for address in addresses {
                    n.released.insert(*address, *at);
                }
            }),
        }
    }

    fn tell(&self, estate: &Estate) -> Option<Entry> {
        let name = |id: &NetworkId| Object::Network(*id).name(estate);
        let line = |id: &NetworkId, text| Some(Entry::new("network", text, vec![id.to_string()]));
        match self {
            Event::SwitchSeen(new) => {
                let before = estate.switches.get(&new.id).map(|s| &**s);
                let text = switch_words(before, new);
                Some(Entry::new("network", text, vec![new.id.to_string()]))
            }
            Event::Planned(n) => line(&n.id, format!("Network {} is being made", n.name)),
            Event::Ready { network } => line(network, format!("{} is ready", name(network))),
            Event::Changed {
                network, role, mtu, ..
            } => line(
                network,
                format!("{} is for {} now, with an MTU of {mtu}", name(network), role.word()),
            ),
            Event::Corrected {
                network,
                vlan,
                mtu,
                uplinks,
                subnets,
            } => {
                let vlan = vlan.map_or_else(|| "untagged".to_owned(), |v| format!("VLAN {v}"));
                let uplinks: Vec<&str> = uplinks.iter().map(String::as_str).collect();
                let gateways: Vec<String> = subnets.iter().filter_map(|s| s.gateway).map(|g| g.to_string()).collect();
                let gateways = match gateways.as_slice() {
                    [] => "no gateway".to_owned(),
                    all => format!("gateway {}", all.join(", ")),
                };
                let text = format!("{} was corrected: {vlan}, MTU {mtu}, on {}, {gateways}", name(network), uplinks.join(", "));
                line(network, text)
            }
            Event::Gone { network, removed } => {
                let what = if *removed {
                    "was removed"
                } else {
                    "was not made"
                };
                line(network, format!("{} {what}", name(network)))
            }
            Event::OnHost { host, networks, .. } => {
                let held = estate.hosts.get(host)?;
                let lost: Vec<&str> = held
                    .networks
                    .keys()
                    .filter(|n| !networks.contains_key(*n))
                    .map(String::as_str)
                    .collect();
                let text = format!("{} no longer has {}", held.name, lost.join(", "));
                let about = vec![host.to_string()];
                (!lost.is_empty()).then(|| Entry::new("network", text, about))
            }
            Event::SwitchConnecting(_)
            | Event::SwitchDropped { .. }
            | Event::AddressesReleased { .. } => None,
        }
    }

    fn is_sighting(&self) -> bool {
        false
    }
}

fn switch_words(before: Option<&Switch>, new: &Switch) -> String {
    match before {
        Some(b) if !b.known => format!("{} was connected", new.name),
        Some(b) if b.answers() && !new.answers() => {
            let why = new.access.silent.clone().unwrap_or_default();
            format!("{} does not answer: {why}", new.name)
        }
        Some(b) if !b.answers() && new.answers() => format!("{} answers again", new.name),
        _ => format!("Ports of {} changed", new.name),
    }
}
