//! Switches and what hosts configured on their uplinks: which frames of which network get from one host to another.

use crate::{rooms::hosts::host::Identity, world::State};
use serde::{Deserialize, Serialize};
use std::{
    collections::{BTreeMap, BTreeSet},
    net::IpAddr,
};

#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Switch {
    pub(crate) name: String,
    pub(crate) address: String,
    pub(crate) identity: Identity,
    pub(crate) password: String,
    pub(crate) up: bool,
    pub(crate) ports: BTreeMap<String, Port>,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Port {
    pub(crate) up: bool,
    pub(crate) mtu: u32,
    pub(crate) untagged: u16,
    pub(crate) tagged: BTreeSet<u16>,
    /// Host and uplink at the other end.
    pub(crate) neighbour: (String, String),
}

/// A physical port of a host that guests' and hosts' networks go through.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Uplink {
    pub(crate) name: String,
    pub(crate) mac: String,
    pub(crate) mbit: u64,
    /// Whether it has a link.
    #[serde(default = "yes")]
    pub(crate) up: bool,
    pub(crate) switch: String,
    pub(crate) port: String,
}

fn yes() -> bool {
    true
}

/// A network as a host has it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct HostNet {
    /// None: untagged.
    pub vlan: Option<u16>,
    pub mtu: u32,
    pub uplinks: Vec<String>,
}

/// A network card of a machine.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub(crate) struct Nic {
    pub(crate) mac: String,
    #[serde(default)]
    pub(crate) network: Option<String>,
    #[serde(default)]
    pub(crate) addresses: Vec<String>,
}

impl Port {
    /// Frames of this VLAN (none: untagged) go through, up to this many bytes.
    pub(crate) fn carries(&self, vlan: Option<u16>) -> Option<u32> {
        let fine = match vlan {
            None => true,
            Some(v) => self.tagged.contains(&v) || self.untagged == v,
        };
        (self.up && fine).then_some(self.mtu)
    }
}

impl crate::World {
    /// Closes the way from the agent of one host to that of another, or opens it again; the way back stays as it is.
    pub fn wall(&self, from: &str, to: &str, closed: bool) {
        let mut state = self.lock();
        let Some(to) = state.hosts.get(to).map(|h| h.address.clone()) else {
            return;
        };
        let way = (from.to_owned(), to);
        match closed {
            true => state.walls.insert(way),
            false => state.walls.remove(&way),
        };
    }
}

impl State {
    /// What the line between the sites of two agents adds to a round trip, in microseconds; a site is the third number of its
    /// addresses.
    pub(crate) fn line_between(&self, a: &str, b: &str) -> u64 {
        let site = |at: &str| at.split('.').nth(2).unwrap_or_default().to_owned();
        if site(a) == site(b) {
            0
        } else {
            self.line_micros
        }
    }

    /// The largest frame of a network that leaves this host on any of its uplinks; none if none does.
    fn leaves(&self, host: &str, net: &HostNet) -> Option<u32> {
        let host = self.hosts.get(host)?;
        let ports = host
            .uplinks
            .iter()
            .filter(|u| net.uplinks.contains(&u.name))
            .filter_map(|u| self.switches.get(&u.switch)?.ports.get(&u.port));
        // Traffic is spread over the uplinks that carry it: the smallest counts.
        let smallest = ports.filter_map(|p| p.carries(net.vlan)).min()?;
        Some(smallest.min(net.mtu))
    }

    /// The largest frame that gets from one host to another on a network; none if nothing does.
    pub(crate) fn mtu_between(&self, from: &str, to: &str, network: &str) -> Option<u32> {
        let of = |name: &str| {
            let host = self.hosts.get(name).filter(|h| h.power)?;
            host.networks.get(network)
        };
        let (near, far) = (of(from)?, of(to)?);
        if near.vlan != far.vlan {
            return None;
        }
        Some(self.leaves(from, near)?.min(self.leaves(to, far)?))
    }

    /// The hardware address of whoever has an address on a network of this host. Routers have the first address of every subnet of
    /// which frames leave the host.
    pub(crate) fn neighbour(&self, host: &str, network: &str, address: IpAddr) -> Option<String> {
        let net = self.hosts.get(host)?.networks.get(network)?;
        let text = address.to_string();
        let first = text.ends_with(".1") || text.ends_with("::1");
        let out = self.leaves(host, net).is_some();
        if first && out && !self.routers_silent {
            return Some(mac_of("router"));
        }
        let front = self.balancers.values().find(|b| b.stands_at(address));
        let named = front.filter(|_| out).map(|b| b.name.clone());
        named
            .or_else(|| self.answers_at(host, network, &text))
            .map(|name| mac_of(&name))
    }

    /// Who answers at an address on a network of this host: a running machine of any host with the same VLAN.
    pub(crate) fn answers_at(&self, host: &str, network: &str, address: &str) -> Option<String> {
        let vlan = self.hosts.get(host)?.networks.get(network)?.vlan;
        if let Some(name) = self.squatters.get(address) {
            return Some(name.clone());
        }
        for other in self.hosts.values() {
            for (uuid, guest) in &other.guests {
                let record = self.volumes.get(&guest.volume)?.records.get(uuid)?;
                for nic in &record.nics {
                    let same = nic
                        .network
                        .as_ref()
                        .and_then(|n| other.networks.get(n))
                        .is_some_and(|n| n.vlan == vlan);
                    if same && nic.addresses.iter().any(|a| a == address) {
                        return Some(record.name.clone());
                    }
                }
            }
        }
        None
    }
}

/// An own address of each (IEEE 802, locally administered).
fn mac_of(name: &str) -> String {
    let sum = name.bytes().fold(7u32, |sum, b| {
        sum.wrapping_mul(31).wrapping_add(u32::from(b))
    });
    let [a, b, c, d] = sum.to_be_bytes();
    format!("02:7a:{a:02x}:{b:02x}:{c:02x}:{d:02x}")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_port_carries_what_is_tagged_or_its_own() {
        let port = Port {
            up: true,
            mtu: 1500,
            untagged: 1,
            tagged: BTreeSet::from([20]),
            neighbour: (String::new(), String::new()),
        };
        assert_eq!(port.carries(Some(20)), Some(1500));
        assert_eq!(port.carries(Some(1)), Some(1500));
        assert_eq!(port.carries(None), Some(1500));
        assert_eq!(port.carries(Some(30)), None);
        assert_eq!(Port { up: false, ..port }.carries(Some(20)), None);
    }
}
