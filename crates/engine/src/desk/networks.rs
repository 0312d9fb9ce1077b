//! Asking switches who they are, and trying how large a packet gets through.

use super::{Desk, Viewer};
use crate::evidence;
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

    /// Sends one packet of the network's MTU between every pair, not to be fragmented; the answers are kept.
    pub async fn try_mtu(&self, viewer: &Viewer, network: NetworkId) {
        tracing::info!(who = viewer.name, %network, "the MTU is tried");
        let pairs = self.mtu_pairs(network);
        let probes = pairs
            .into_iter()
            .map(|(from, to)| Probe::Mtu { network, from, to })
            .collect();
        evidence::ask_all(&self.shared, probes).await;
    }
}
