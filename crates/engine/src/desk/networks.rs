//! Asking switches who they are, and trying how large a packet gets through.

use super::{Desk, Viewer};
use crate::evidence;
use std::net::IpAddr;
use zastrugi_core::{
    evidence::Probe,
    ids::{HostId, NetworkId},
};

impl Desk {
    /// Asks who manages a switch at this address, where that is not known.
    pub async fn greet_switch(&self, address: &str) {
        let probes = vec![Probe::SwitchGreeting(address.to_owned())];
        evidence::ask_missing(&self.shared, probes).await;
    }

    /// Asks who balances at this address, where that is not known.
    pub async fn greet_balancer(&self, address: &str) {
        let probes = vec![Probe::BalancerGreeting(address.to_owned())];
        evidence::ask_missing(&self.shared, probes).await;
    }

    /// Asks a host of a network who has addresses on it, where that is not known.
    pub async fn ask_for_neighbours(&self, network: NetworkId, addresses: &[IpAddr]) {
        let estate = self.shared.estate();
        let Some(host) = estate
            .networks
            .get(&network)
            .and_then(|n| n.looker(&estate))
        else {
            return;
        };
        let probe = |address: &IpAddr| Probe::Neighbour {
            network,
            host: host.id,
            address: *address,
        };
        evidence::ask_missing(&self.shared, addresses.iter().map(probe).collect()).await;
    }

    /// The gateways of a network, and the hosts that shall reach them.
    pub fn gateways(&self, network: NetworkId) -> Vec<(HostId, IpAddr)> {
        let estate = self.shared.estate();
        let Some(network) = estate.networks.get(&network).filter(|n| !n.is_isolated()) else {
            return vec![];
        };
        let mut hosts: Vec<_> = estate
            .hosts_in(network.cluster)
            .filter(|h| h.accepts_work())
            .collect();
        hosts.sort_by(|a, b| a.name.cmp(&b.name));
        let pairs = hosts
            .iter()
            .flat_map(|h| network.gateways().map(|g| (h.id, g)));
        pairs.collect()
    }

    /// The pairs that are tried for a network: each host to the next one and back, by name.
    pub fn mtu_pairs(&self, network: NetworkId) -> Vec<(HostId, HostId)> {
        let estate = self.shared.estate();
        let Some(network) = estate.networks.get(&network).filter(|n| !n.is_isolated()) else {
            return vec![];
        };
        let mut hosts: Vec<_> = estate
            .hosts_in(network.cluster)
            .filter(|h| h.accepts_work())
            .collect();
        hosts.sort_by(|a, b| a.name.cmp(&b.name));
        let ring = hosts.iter().zip(hosts.iter().cycle().skip(1));
        ring.filter(|(a, b)| a.id != b.id)
            .map(|(a, b)| (a.id, b.id))
            .collect()
    }

    /// Sends one packet of the network's MTU between every pair, not to be fragmented, and asks every host for the gateways; the
    /// answers are kept.
    pub async fn try_network(&self, viewer: &Viewer, network: NetworkId) {
        tracing::info!(who = viewer.name, %network, "a network is tried");
        let pairs = self.mtu_pairs(network).into_iter();
        let mtu = pairs.map(|(from, to)| Probe::Mtu { network, from, to });
        let gateways = self.gateways(network).into_iter();
        let gateways = gateways.map(|(host, address)| Probe::Neighbour {
            network,
            host,
            address,
        });
        evidence::ask_all(&self.shared, mtu.chain(gateways).collect()).await;
    }
}
