//! Networks on hosts, and switches that are read.

use crate::{
    Drivers, Outcome, Turn,
    perform::{done, premise, stamp},
};
use std::net::IpAddr;
use zastrugi_core::{
    estate::{Estate, Host, HostNet, Network},
    ids::{HostId, NetworkId},
    rooms::{
        Event,
        networks::{self, Step},
    },
    runs::{Fault, FaultKind},
};

/// Frames that are tried where the whole MTU does not get through: jumbo, Ethernet's own (IEEE 802.3), the least of IPv6
/// (RFC 8200).
const SMALLER: [u32; 3] = [9000, 1500, 1280];

impl Drivers {
    pub(crate) async fn at_network(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        match step {
            Step::ReadSwitch { switch } => {
                let gone = || premise("The switch is gone.");
                let switch = estate.switches.get(switch).ok_or_else(gone)?;
                let read = self.read_switch(switch).await?;
                let said = format!("{} ports", read.ports.len());
                let seen = networks::Event::SwitchSeen(Box::new(read));
                Ok(done(vec![seen.into()], said))
            }
            Step::Set { network, host } => self.set(estate, *network, *host, true, turn).await,
            Step::Drop { network, host } => self.set(estate, *network, *host, false, turn).await,
            Step::Try { network, host, to } => self.try_out(estate, *network, *host, *to).await,
            Step::Gateway { network, host } => self.gateway(estate, *network, *host).await,
            Step::Ready { .. } | Step::Gone { .. } => Err(premise("There is no device for this.")),
        }
    }

    /// A packet of the whole MTU, unfragmented; where it is lost, how much does get through is tried too.
    async fn try_out(
        &self,
        estate: &Estate,
        network: NetworkId,
        host: HostId,
        to: HostId,
    ) -> Result<Outcome, Fault> {
        let (host, to) = (self.host_of(estate, host)?, self.host_of(estate, to)?);
        let gone = || premise("The network is gone.");
        let network = estate.networks.get(&network).ok_or_else(gone)?;
        let key = self.key_of(host).await?;
        let agent = self.agent(host, &key);
        let through = async |bytes| agent.mtu(&network.name, &to.name, bytes).await;
        if through(network.mtu).await? {
            let said = format!("{} bytes get to {}", network.mtu, to.name);
            return Ok(done(vec![], said));
        }
        let mut less = None;
        for bytes in SMALLER.into_iter().filter(|b| *b < network.mtu) {
            if less.is_none() && through(bytes).await? {
                less = Some(bytes);
            }
        }
        let but = match less {
            Some(bytes) => format!("{bytes} bytes do"),
            None => "nothing does".into(),
        };
        let said = format!(
            "A packet of {} bytes does not get from {} to {} on {}; {but}.",
            network.mtu, host.name, to.name, network.name
        );
        let remedy =
            "Correct the switch ports of these hosts or what the network was given, then retry.";
        Err(Fault::new(FaultKind::Refused, said, remedy))
    }

    /// Whoever should lead out of the network has its address there.
    async fn gateway(
        &self,
        estate: &Estate,
        network: NetworkId,
        host: HostId,
    ) -> Result<Outcome, Fault> {
        let host = self.host_of(estate, host)?;
        let gone = || premise("The network is gone.");
        let network = estate.networks.get(&network).ok_or_else(gone)?;
        let all: Vec<IpAddr> = network.gateways().collect();
        if all.is_empty() {
            return Ok(done(vec![], "it has none any more"));
        }
        let key = self.key_of(host).await?;
        let heard = self
            .agent(host, &key)
            .neighbours(&network.name, &all)
            .await?;
        if let Some(silent) = all.iter().find(|a| !heard.contains_key(a)) {
            let said = format!(
                "Nobody answers at {silent}, the gateway of {}, when {} asks.",
                network.name, host.name
            );
            let remedy = "Look at the router, or correct the gateway; without one, leave it empty.";
            return Err(Fault::new(FaultKind::Refused, said, remedy));
        }
        let all: Vec<String> = heard
            .iter()
            .map(|(a, mac)| format!("{a} is {mac}"))
            .collect();
        Ok(done(vec![], all.join(", ")))
    }

    async fn set(
        &self,
        estate: &Estate,
        network: NetworkId,
        host: HostId,
        set: bool,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        let host = self.host_of(estate, host)?;
        let key = self.key_of(host).await?;
        let agent = self.agent(host, &key);
        let gone = || premise("The network is gone.");
        let network = estate.networks.get(&network).ok_or_else(gone)?;
        if set {
            agent.set_network(stamp(turn), network).await?;
        } else {
            agent.drop_network(stamp(turn), network).await?;
        }
        let said = if set { "set up" } else { "taken off" };
        Ok(done(vec![networks_of(host, network, set)], said))
    }
}

/// What the host has after a network was set up there or taken off.
fn networks_of(host: &Host, network: &Network, set: bool) -> Event {
    let mut networks = host.networks.clone();
    if set {
        let has = HostNet {
            vlan: network.vlan,
            mtu: network.mtu,
            uplinks: network.uplinks.clone(),
        };
        networks.insert(network.name.clone(), has);
    } else {
        networks.remove(&network.name);
    }
    Event::Networks(networks::Event::OnHost {
        host: host.id,
        uplinks: host.uplinks.clone(),
        networks,
    })
}
