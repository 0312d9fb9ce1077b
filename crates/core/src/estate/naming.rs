//! Names of machines and hosts in DNS: at which server they are entered, what stands there, and what should.

use super::{Condition, Estate, Host, Machine, MachineState};
use crate::{ids::SecretRef, names};
use serde::{Deserialize, Serialize};
use std::{
    collections::BTreeSet,
    net::{IpAddr, SocketAddr},
};

/// Where the names of a cluster's machines are entered.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Dns {
    /// Without a dot at its end: `skarholm.example`.
    pub zone: String,
    /// `ip:port`, the first that answers is told.
    pub servers: Vec<String>,
    /// None: changes are not signed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key: Option<TsigKey>,
}

/// What changes are signed with (RFC 8945), by HMAC-SHA-256.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct TsigKey {
    pub name: String,
    pub secret: SecretRef,
}

/// What stands in DNS for a machine.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Entered {
    /// With its zone, without a dot at its end.
    pub name: String,
    pub addresses: BTreeSet<IpAddr>,
    /// Each address leads back to the name.
    pub back: bool,
}

/// What must be done so that a machine's name is as it should be.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Due {
    Enter {
        name: String,
        addresses: BTreeSet<IpAddr>,
    },
    Withdraw,
}

impl Dns {
    /// The name of a machine, with the zone.
    pub fn name_of(&self, machine: &str) -> String {
        format!("{machine}.{}", self.zone)
    }
    /// Whether a name stands in the zone.
    pub fn holds(&self, name: &str) -> bool {
        let host = name.strip_suffix(&self.zone);
        host.is_some_and(|h| h.ends_with('.'))
    }
}

impl Estate {
    /// What is due for a machine's name; none where it is as it should be, or its cluster's machines have no names.
    pub fn name_due(&self, machine: &Machine) -> Option<Due> {
        let cluster = self.clusters.get(&machine.cluster?)?;
        let dns = cluster.dns.as_ref()?;
        let addresses: BTreeSet<IpAddr> = machine
            .nics
            .iter()
            .flat_map(|n| n.addresses.iter().copied())
            .collect();
        let lives = machine.deleted.is_none() && machine.state != MachineState::Planned;
        due(
            dns,
            &machine.name,
            addresses,
            lives,
            machine.entered.as_deref(),
        )
    }

    /// The same of a host of a cluster: its name leads to its own address.
    pub fn host_name_due(&self, host: &Host) -> Option<Due> {
        let cluster = self.clusters.get(&host.cluster?)?;
        let dns = cluster.dns.as_ref()?;
        let own = host
            .access
            .address
            .parse::<SocketAddr>()
            .ok()
            .map(|a| a.ip());
        let lives = !matches!(host.condition, Condition::Claiming);
        due(
            dns,
            &host.name,
            own.into_iter().collect(),
            lives,
            host.entered.as_deref(),
        )
    }
}

fn due(
    dns: &Dns,
    name: &str,
    addresses: BTreeSet<IpAddr>,
    lives: bool,
    entered: Option<&Entered>,
) -> Option<Due> {
    let named = lives && !addresses.is_empty() && names::check(name).is_ok();
    if !named {
        return entered.map(|_| Due::Withdraw);
    }
    let name = dns.name_of(name);
    let same = entered.is_some_and(|e| e.name == name && e.addresses == addresses);
    (!same).then_some(Due::Enter { name, addresses })
}
