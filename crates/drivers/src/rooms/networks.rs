//! Networks on hosts, and switches that are read.

use crate::{
    Drivers, Outcome, Turn,
    perform::{done, premise, stamp},
};
use zastrugi_core::{
    estate::{Estate, Host, HostNet, Network},
    ids::{HostId, NetworkId},
    rooms::{
        Event,
        networks::{self, Step},
    },
    runs::Fault,
};

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
            Step::Ready { .. } | Step::Gone { .. } => Err(premise("There is no device for this.")),
        }
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
