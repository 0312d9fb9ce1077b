//! Networks of a cluster, the addresses in them, and the switches that carry them.

use super::{Controller, Estate, Host};
use crate::{
    ids::{ClusterId, NetworkId, SecretRef, SiteId, SwitchId},
    moment::{Moment, Span},
    text::Line,
};
use ipnet::IpNet;
use serde::{Deserialize, Serialize};
use std::{
    collections::{BTreeMap, BTreeSet},
    fmt,
    net::IpAddr,
    sync::Arc,
};

/// What a network is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum NetRole {
    Management,
    OutOfBand,
    Discovery,
    Heartbeat,
    Migration,
    Storage,
    Replication,
    Guest,
}

impl NetRole {
    pub const ALL: [NetRole; 8] = [
        NetRole::Guest,
        NetRole::Management,
        NetRole::OutOfBand,
        NetRole::Discovery,
        NetRole::Heartbeat,
        NetRole::Migration,
        NetRole::Storage,
        NetRole::Replication,
    ];
    pub fn word(self) -> &'static str {
        match self {
            NetRole::Management => "management",
            NetRole::OutOfBand => "out-of-band",
            NetRole::Discovery => "discovery",
            NetRole::Heartbeat => "heartbeat",
            NetRole::Migration => "migration",
            NetRole::Storage => "storage",
            NetRole::Replication => "replication",
            NetRole::Guest => "guest",
        }
    }
    /// What it carries, and what it needs.
    pub fn needs(self) -> &'static str {
        match self {
            NetRole::Management => {
                "orders to hosts and their reports: an own address for each host, a gateway where this manager is elsewhere"
            }
            NetRole::OutOfBand => {
                "controllers of hosts, management of arrays and switches: reachable when every host is off"
            }
            NetRole::Discovery => "new hosts that say that they are there: no more than the site",
            NetRole::Heartbeat => "signs of life between hosts: little, and never late",
            NetRole::Migration => {
                "memory of machines that move, in the clear between hosts: 10 Gbit/s or more, MTU 9000 where the switches carry it, no gateway"
            }
            NetRole::Storage => {
                "disks: two uplinks to two switches, MTU 9000 where the switches carry it, no gateway"
            }
            NetRole::Replication => "copies to other sites: bandwidth of the line between them",
            NetRole::Guest => {
                "what machines speak: subnets and ranges, from which they get their addresses"
            }
        }
    }
    /// What should not share its uplinks.
    pub fn apart(self) -> &'static str {
        match self {
            NetRole::Storage => {
                "guest and migration below 25 Gbit/s: a move or a busy guest makes disks slow"
            }
            NetRole::Migration => "storage and heartbeat below 25 Gbit/s: a move fills the line",
            NetRole::Heartbeat => {
                "storage on the same two uplinks alone: what takes one would take the other, and a host looks lost"
            }
            NetRole::OutOfBand => {
                "everything else: who works on hosts must not reach their controllers"
            }
            NetRole::Guest => {
                "storage below 25 Gbit/s, and management: guests are not to be trusted"
            }
            NetRole::Management => "guest",
            NetRole::Replication => "migration, where both run at night",
            NetRole::Discovery => "nothing",
        }
    }
}

/// What the addresses of a range are for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Part {
    Hosts,
    /// Addresses that move between hosts or machines.
    Virtual,
    Guests,
}

impl Part {
    pub fn word(self) -> &'static str {
        match self {
            Part::Hosts => "hosts",
            Part::Virtual => "virtual",
            Part::Guests => "guests",
        }
    }
}

/// Addresses from `first` to `last`, both included.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct AddressRange {
    pub first: IpAddr,
    pub last: IpAddr,
    pub part: Part,
}

impl AddressRange {
    pub fn contains(&self, address: IpAddr) -> bool {
        address.is_ipv4() == self.first.is_ipv4() && self.first <= address && address <= self.last
    }
    pub fn overlaps(&self, other: &AddressRange) -> bool {
        self.first.is_ipv4() == other.first.is_ipv4()
            && self.first <= other.last
            && other.first <= self.last
    }
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Subnet {
    pub net: IpNet,
    pub gateway: Option<IpAddr>,
    pub ranges: Vec<AddressRange>,
}

/// An address that somebody keeps for something that is no machine of ours.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Reservation {
    pub what: Line,
    pub since: Moment,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Network {
    pub id: NetworkId,
    pub name: String,
    pub cluster: ClusterId,
    pub role: NetRole,
    /// None: untagged.
    pub vlan: Option<u16>,
    pub mtu: u32,
    /// IPv4, IPv6, both or neither.
    pub subnets: Vec<Subnet>,
    /// The uplinks of every host that carry it.
    pub uplinks: BTreeSet<String>,
    pub reserved: BTreeMap<IpAddr, Reservation>,
    /// Addresses that machines gave up, with when; rested before they are given again.
    pub released: BTreeMap<IpAddr, Moment>,
    /// False while the run that makes it hasn't finished.
    pub ready: bool,
    pub note: String,
}

/// A network as a host says that it has it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct HostNet {
    pub vlan: Option<u16>,
    pub mtu: u32,
    pub uplinks: BTreeSet<String>,
}

/// A physical port of a host, and where its cable leads as the host knows it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Uplink {
    pub name: String,
    pub mac: String,
    pub mbit: u64,
    /// Whether it has a link.
    #[serde(default = "yes")]
    pub up: bool,
    pub switch: String,
    pub port: String,
}

fn yes() -> bool {
    true
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SwitchPort {
    pub up: bool,
    pub mtu: u32,
    pub untagged: u16,
    pub tagged: BTreeSet<u16>,
    /// Host and uplink at the other end, as the switch heard them.
    pub neighbour: Option<(String, String)>,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Switch {
    pub id: SwitchId,
    pub name: String,
    pub site: SiteId,
    pub access: Controller,
    pub user: String,
    pub key: Option<SecretRef>,
    pub ports: BTreeMap<String, SwitchPort>,
    /// False until it was read once.
    pub known: bool,
}

impl Switch {
    pub fn answers(&self) -> bool {
        self.known && self.access.silent.is_none()
    }
}

/// How a network stands on one host.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Standing {
    Fine,
    /// Right on the host; its switch port can't be read.
    Unchecked(String),
    /// The host doesn't have it.
    Missing,
    /// The host has it otherwise.
    Differs(String),
    /// The host has it, the switch port doesn't carry it.
    Wire(WireFault),
}

/// What is amiss with a switch port at the end of an uplink.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct WireFault {
    pub switch: String,
    pub port: String,
    pub what: Amiss,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Amiss {
    Down,
    NoVlan(u16),
    Mtu { has: u32, needs: u32 },
}

impl fmt::Display for Amiss {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Amiss::Down => f.write_str("is down"),
            Amiss::NoVlan(vlan) => write!(f, "does not carry VLAN {vlan}"),
            Amiss::Mtu { has, needs } => write!(f, "carries at most {has} bytes, not {needs}"),
        }
    }
}

impl fmt::Display for WireFault {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} port {} {}", self.switch, self.port, self.what)
    }
}

impl Standing {
    /// What a run of ours can mend: the host's side.
    pub fn drifts(&self) -> bool {
        matches!(self, Standing::Missing | Standing::Differs(_))
    }
    pub fn bad(&self) -> bool {
        !matches!(self, Standing::Fine | Standing::Unchecked(_))
    }
    pub fn words(&self) -> String {
        match self {
            Standing::Fine => "fine".into(),
            Standing::Unchecked(why) => format!("unchecked: {why}"),
            Standing::Missing => "missing on the host".into(),
            Standing::Differs(why) => why.clone(),
            Standing::Wire(fault) => fault.to_string(),
        }
    }
}

/// How long an address that was given up rests (rules, section 7).
pub const REST: Span = Span::days(7);

impl Network {
    pub fn vlan_word(&self) -> String {
        self.vlan
            .map_or_else(|| "untagged".into(), |v| v.to_string())
    }
    /// How it stands on this host: first the host's side, then each uplink's switch port.
    pub fn standing(&self, estate: &Estate, host: &Host) -> Standing {
        let Some(has) = host.networks.get(&self.name) else {
            return Standing::Missing;
        };
        if has.vlan != self.vlan {
            let word = has
                .vlan
                .map_or_else(|| "untagged".into(), |v| format!("VLAN {v}"));
            return Standing::Differs(format!("it is {word} there"));
        }
        if has.mtu != self.mtu {
            return Standing::Differs(format!("its MTU is {} there, not {}", has.mtu, self.mtu));
        }
        if has.uplinks != self.uplinks {
            return Standing::Differs("it is on other uplinks there".into());
        }
        self.wires(estate, host)
    }
    /// No uplink carries it: it ends at each host.
    pub fn is_isolated(&self) -> bool {
        self.uplinks.is_empty()
    }
    pub fn gateways(&self) -> impl Iterator<Item = IpAddr> {
        self.subnets.iter().filter_map(|s| s.gateway)
    }
    /// A host that can look who has an address on it: the first by name that answers and has it.
    pub fn looker<'a>(&self, estate: &'a Estate) -> Option<&'a Arc<Host>> {
        let able = |h: &&Arc<Host>| h.accepts_work() && h.networks.contains_key(&self.name);
        estate
            .hosts_in(self.cluster)
            .filter(able)
            .min_by(|a, b| a.name.cmp(&b.name))
    }
    /// Whether the switch ports of this host carry it, whether the host has it or not.
    pub fn wires(&self, estate: &Estate, host: &Host) -> Standing {
        let mut unknown = None;
        for uplink in host
            .uplinks
            .iter()
            .filter(|u| self.uplinks.contains(&u.name))
        {
            match wire(estate, uplink, self.vlan, self.mtu) {
                Ok(()) => {}
                Err(Standing::Unchecked(why)) => unknown = Some(why),
                Err(bad) => return bad,
            }
        }
        unknown.map_or(Standing::Fine, Standing::Unchecked)
    }
    /// The uplinks of this host over which it gets out as far as anybody knows, and what is amiss at the ports of the
    /// others. A port that carries too small frames is no way out, and keeps others from being one: what goes out is spread.
    pub fn ways<'h>(&self, estate: &Estate, host: &'h Host) -> (Vec<&'h Uplink>, Vec<WireFault>) {
        let (mut ways, mut amiss) = (Vec::new(), Vec::new());
        for uplink in host
            .uplinks
            .iter()
            .filter(|u| self.uplinks.contains(&u.name))
        {
            match wire(estate, uplink, self.vlan, self.mtu) {
                Err(Standing::Wire(fault)) => amiss.push(fault),
                _ => ways.push(uplink),
            }
        }
        if amiss.iter().any(|f| matches!(f.what, Amiss::Mtu { .. })) {
            ways.clear();
        }
        (ways, amiss)
    }
    /// Machines with a card on it.
    pub fn machines<'a>(
        &'a self,
        estate: &'a Estate,
    ) -> impl Iterator<Item = &'a Arc<super::Machine>> {
        estate
            .machines_in(self.cluster)
            .filter(|m| m.nics.iter().any(|n| n.network == Some(self.id)))
    }
    /// Every address that is in use or kept, with what for and since when.
    pub fn taken(&self, estate: &Estate) -> BTreeMap<IpAddr, (String, Moment)> {
        let mut all: BTreeMap<IpAddr, (String, Moment)> = self
            .reserved
            .iter()
            .map(|(a, r)| (*a, (r.what.to_string(), r.since)))
            .collect();
        for gateway in self.subnets.iter().filter_map(|s| s.gateway) {
            all.insert(gateway, ("gateway".into(), Moment(0)));
        }
        for front in estate.fronts.values().filter(|f| f.network == self.id) {
            all.insert(front.address, (format!("front {}", front.name), Moment(0)));
        }
        for machine in self.machines(estate) {
            for nic in machine.nics.iter().filter(|n| n.network == Some(self.id)) {
                for address in &nic.addresses {
                    all.insert(*address, (machine.name.clone(), machine.created));
                }
            }
        }
        all
    }
}

/// Does the switch port at the end of this uplink carry it?
pub(crate) fn wire(
    estate: &Estate,
    uplink: &Uplink,
    vlan: Option<u16>,
    mtu: u32,
) -> Result<(), Standing> {
    let amiss = |what| {
        Err(Standing::Wire(WireFault {
            switch: uplink.switch.clone(),
            port: uplink.port.clone(),
            what,
        }))
    };
    // The host feels its own end, whatever the switch says.
    if !uplink.up {
        return amiss(Amiss::Down);
    }
    let switch = estate.switch_named(&uplink.switch);
    let unchecked = |why: String| Err(Standing::Unchecked(why));
    let Some(switch) = switch else {
        return unchecked(format!("{} is not connected", uplink.switch));
    };
    if !switch.answers() {
        return unchecked(format!("{} does not answer", switch.name));
    }
    let Some(port) = switch.ports.get(&uplink.port) else {
        return unchecked(format!("{} tells of no port {}", switch.name, uplink.port));
    };
    if !port.up {
        return amiss(Amiss::Down);
    }
    let carried = vlan.is_none_or(|v| port.tagged.contains(&v) || port.untagged == v);
    if let (false, Some(vlan)) = (carried, vlan) {
        return amiss(Amiss::NoVlan(vlan));
    }
    if port.mtu < mtu {
        return amiss(Amiss::Mtu {
            has: port.mtu,
            needs: mtu,
        });
    }
    Ok(())
}

impl Estate {
    /// The networks of a cluster, by name.
    pub fn networks_of(&self, cluster: ClusterId) -> Vec<&Arc<Network>> {
        let of = self.index.networks.all(&cluster);
        let mut all: Vec<_> = of.filter_map(|id| self.networks.get(id)).collect();
        all.sort_by(|a, b| a.name.cmp(&b.name));
        all
    }
    /// Networks in the same broadcast domain: the same VLAN at the same site.
    pub fn same_domain(
        &self,
        site: SiteId,
        vlan: Option<u16>,
    ) -> impl Iterator<Item = &Arc<Network>> {
        self.networks.values().filter(move |n| {
            let cluster = self.clusters.get(&n.cluster);
            n.vlan == vlan && !n.is_isolated() && cluster.is_some_and(|c| c.site == site)
        })
    }
}
