//! Hosts announce themselves by DNS-SD (RFC 6763) over multicast DNS, on loopback only.

use crate::world::World;
use mdns_sd::{IfKind, ServiceDaemon, ServiceInfo};
use std::{collections::HashMap, net::IpAddr};

/// The service type of host agents.
pub(crate) const SERVICE: &str = "_zastrugi-agent._tcp.local.";

/// That of controllers of hosts on which nothing is installed.
const CONTROLLER: &str = "_redfish._tcp.local.";

pub(crate) struct Announcer {
    daemon: ServiceDaemon,
}

impl Announcer {
    pub(crate) fn start(world: &World, port: u16) -> Result<Announcer, mdns_sd::Error> {
        let daemon = ServiceDaemon::new_with_port(port)?;
        daemon.disable_interface(IfKind::All)?;
        daemon.enable_interface(IfKind::LoopbackV4)?;
        // One that another manager owns looks for nobody.
        let theirs = world.of_others();
        let agents = world.agents().into_iter();
        let agents = agents
            .filter(|(name, _)| !theirs.contains(name))
            .map(|at| (SERVICE, at));
        let bare = world.bare_controllers().into_iter();
        for (service, (name, address)) in agents.chain(bare.map(|at| (CONTROLLER, at))) {
            let Some((ip, port)) = address.rsplit_once(':') else {
                continue;
            };
            let (Ok(ip), Ok(port)) = (ip.parse::<IpAddr>(), port.parse::<u16>()) else {
                continue;
            };
            let text = HashMap::from([("address".to_owned(), address.clone())]);
            let info = ServiceInfo::new(service, &name, &format!("{name}.local."), ip, port, text)?;
            daemon.register(info)?;
        }
        Ok(Announcer { daemon })
    }
}

impl Drop for Announcer {
    fn drop(&mut self) {
        // The daemon's thread ends by itself; there is nobody left to tell if it doesn't.
        drop(self.daemon.shutdown());
    }
}
