//! Everything under management, at one revision. Changed by a [`Pen`] alone.
//!
//! Large kinds are persistent maps of shared entities, so a fork costs microseconds. The indices are kept by
//! `put` and `remove` in this file and by nothing else.

mod array;
mod cluster;
mod fact;
mod host;
mod image;
mod machine;
mod moving;
mod network;
mod pen;
mod rule;
mod volume;

pub use array::{Array, ArrayCondition, ArrayKind, Controller, Pool};
pub use cluster::{Cluster, ClusterKind, Demand, Site};
pub use fact::{Fact, Kind, UpgradeError};
pub use host::{Access, Bmc, Condition, Cpu, Hardware, Host, PsabiLevel};
pub use image::{Attached, Boot, BootFrom, Image};
pub use machine::{AsOf, Disk, Machine, MachineState, Memory, Nic, Provisioning, Wanted};
pub use moving::{Measured, Moved, RoundSeen};
pub(crate) use network::wire;
pub use network::{
    AddressRange, HostNet, NetRole, Network, Part, REST, Reservation, Standing, Subnet, Switch,
    SwitchPort, Uplink,
};
pub use pen::{Change, Pen, Touched};
pub use rule::{PlaceRule, RuleKind, Where, Who};
pub use volume::{Backing, Drift, Path, Volume};

use crate::ids::{
    ArrayId, ClusterId, HostId, ImageId, MachineId, NetworkId, Revision, SiteId, SwitchId, VolumeId,
};
use imbl::{OrdMap, OrdSet};
use std::sync::Arc;

#[derive(Debug, Clone, Default, PartialEq)]
pub struct Estate {
    pub revision: Revision,
    /// The next number that a new entity gets.
    pub next: u64,
    pub sites: OrdMap<SiteId, Arc<Site>>,
    pub clusters: OrdMap<ClusterId, Arc<Cluster>>,
    pub hosts: OrdMap<HostId, Arc<Host>>,
    pub arrays: OrdMap<ArrayId, Arc<Array>>,
    pub volumes: OrdMap<VolumeId, Arc<Volume>>,
    pub images: OrdMap<ImageId, Arc<Image>>,
    pub switches: OrdMap<SwitchId, Arc<Switch>>,
    pub networks: OrdMap<NetworkId, Arc<Network>>,
    pub machines: OrdMap<MachineId, Arc<Machine>>,
    index: Index,
}

/// Ways in, besides the identifier.
#[derive(Debug, Clone, Default, PartialEq)]
struct Index {
    on_host: OrdMap<HostId, OrdSet<MachineId>>,
    arriving: OrdMap<HostId, OrdSet<MachineId>>,
    in_cluster: OrdMap<ClusterId, OrdSet<MachineId>>,
    on_volume: OrdMap<VolumeId, OrdSet<MachineId>>,
    by_name: OrdMap<Arc<str>, MachineId>,
    by_uuid: OrdMap<uuid::Uuid, MachineId>,
    by_label: OrdMap<Arc<str>, OrdSet<MachineId>>,
    by_address: OrdMap<Arc<str>, HostId>,
    by_mac: OrdMap<Arc<str>, MachineId>,
}

impl Estate {
    pub fn machines_on(&self, host: HostId) -> impl Iterator<Item = &Arc<Machine>> {
        self.index
            .on_host
            .get(&host)
            .into_iter()
            .flatten()
            .filter_map(|id| self.machines.get(id))
    }
    /// Machines that are being moved here; room is held for them.
    pub fn machines_arriving(&self, host: HostId) -> impl Iterator<Item = &Arc<Machine>> {
        self.index
            .arriving
            .get(&host)
            .into_iter()
            .flatten()
            .filter_map(|id| self.machines.get(id))
    }
    pub fn machines_in(&self, cluster: ClusterId) -> impl Iterator<Item = &Arc<Machine>> {
        self.index
            .in_cluster
            .get(&cluster)
            .into_iter()
            .flatten()
            .filter_map(|id| self.machines.get(id))
    }
    pub fn count_in(&self, cluster: ClusterId) -> usize {
        self.index.in_cluster.get(&cluster).map_or(0, OrdSet::len)
    }
    pub fn machines_with_disk_on(&self, volume: VolumeId) -> impl Iterator<Item = &Arc<Machine>> {
        self.index
            .on_volume
            .get(&volume)
            .into_iter()
            .flatten()
            .filter_map(|id| self.machines.get(id))
    }
    pub fn machines_labelled<'a>(
        &'a self,
        label: &str,
    ) -> impl Iterator<Item = &'a Arc<Machine>> + use<'a> {
        self.index
            .by_label
            .get(label)
            .into_iter()
            .flatten()
            .filter_map(|id| self.machines.get(id))
    }
    pub fn machine_named(&self, name: &str) -> Option<&Arc<Machine>> {
        self.index
            .by_name
            .get(name)
            .and_then(|id| self.machines.get(id))
    }
    pub fn machine_with_uuid(&self, uuid: &uuid::Uuid) -> Option<&Arc<Machine>> {
        self.index
            .by_uuid
            .get(uuid)
            .and_then(|id| self.machines.get(id))
    }
    pub fn machine_with_mac(&self, mac: &str) -> Option<&Arc<Machine>> {
        self.index
            .by_mac
            .get(mac)
            .and_then(|id| self.machines.get(id))
    }
    /// Machines in the order of their names.
    pub fn machines_by_name(&self) -> impl DoubleEndedIterator<Item = &Arc<Machine>> {
        self.index
            .by_name
            .values()
            .filter_map(|id| self.machines.get(id))
    }
    /// All labels with the number of machines that carry them.
    pub fn labels(&self) -> impl Iterator<Item = (&str, usize)> {
        self.index
            .by_label
            .iter()
            .map(|(label, machines)| (&**label, machines.len()))
    }
    pub fn hosts_in(&self, cluster: ClusterId) -> impl Iterator<Item = &Arc<Host>> {
        self.clusters
            .get(&cluster)
            .into_iter()
            .flat_map(|c| &c.hosts)
            .filter_map(|id| self.hosts.get(id))
    }
    pub fn host_at(&self, address: &str) -> Option<&Arc<Host>> {
        self.index
            .by_address
            .get(address)
            .and_then(|id| self.hosts.get(id))
    }
    pub fn host_named(&self, name: &str) -> Option<&Arc<Host>> {
        self.hosts.values().find(|h| h.name == name)
    }
    pub fn cluster_named(&self, name: &str) -> Option<&Arc<Cluster>> {
        self.clusters
            .values()
            .find(|c| c.name.eq_ignore_ascii_case(name))
    }
    pub fn site_named(&self, name: &str) -> Option<&Arc<Site>> {
        self.sites
            .values()
            .find(|s| s.name.eq_ignore_ascii_case(name))
    }
    pub fn volume_with_uid(&self, uid: &str) -> Option<&Arc<Volume>> {
        self.volumes.values().find(|v| v.uid == uid)
    }

    pub fn array_named(&self, name: &str) -> Option<&Arc<Array>> {
        self.arrays
            .values()
            .find(|a| a.name.eq_ignore_ascii_case(name))
    }
    /// The array with a management controller at this address.
    pub fn array_at(&self, address: &str) -> Option<&Arc<Array>> {
        self.arrays
            .values()
            .find(|a| a.controllers.iter().any(|c| c.address == address))
    }

    /// Builds the estate from its current facts; the order does not matter.
    pub fn from_facts(revision: Revision, facts: impl IntoIterator<Item = Fact>) -> Self {
        let mut estate = Estate {
            revision,
            ..Estate::default()
        };
        for fact in facts {
            estate.put(fact);
        }
        estate
    }

    /// All current facts.
    pub fn facts(&self) -> impl Iterator<Item = Fact> + '_ {
        std::iter::once(Fact::Meta(self.next))
            .chain(self.sites.values().cloned().map(Fact::Site))
            .chain(self.clusters.values().cloned().map(Fact::Cluster))
            .chain(self.hosts.values().cloned().map(Fact::Host))
            .chain(self.arrays.values().cloned().map(Fact::Array))
            .chain(self.volumes.values().cloned().map(Fact::Volume))
            .chain(self.images.values().cloned().map(Fact::Image))
            .chain(self.switches.values().cloned().map(Fact::Switch))
            .chain(self.networks.values().cloned().map(Fact::Network))
            .chain(self.machines.values().cloned().map(Fact::Machine))
    }

    /// Places one entity and keeps every index right.
    pub fn put(&mut self, fact: Fact) {
        match fact {
            Fact::Meta(next) => self.next = next,
            Fact::Site(site) => drop(self.sites.insert(site.id, site)),
            Fact::Cluster(cluster) => drop(self.clusters.insert(cluster.id, cluster)),
            Fact::Array(array) => drop(self.arrays.insert(array.id, array)),
            Fact::Switch(switch) => drop(self.switches.insert(switch.id, switch)),
            Fact::Network(network) => drop(self.networks.insert(network.id, network)),
            Fact::Volume(volume) => drop(self.volumes.insert(volume.id, volume)),
            Fact::Image(image) => drop(self.images.insert(image.id, image)),
            Fact::Host(host) => {
                self.remove(Kind::Host, host.id.0);
                self.index
                    .by_address
                    .insert(host.access.address.as_str().into(), host.id);
                self.hosts.insert(host.id, host);
            }
            Fact::Machine(machine) => {
                self.remove(Kind::Machine, machine.id.0);
                self.index.add(&machine);
                self.machines.insert(machine.id, machine);
            }
        }
    }

    pub fn remove(&mut self, kind: Kind, id: u64) {
        match kind {
            Kind::Meta => self.next = 0,
            Kind::Site => drop(self.sites.remove(&SiteId(id))),
            Kind::Cluster => drop(self.clusters.remove(&ClusterId(id))),
            Kind::Array => drop(self.arrays.remove(&ArrayId(id))),
            Kind::Switch => drop(self.switches.remove(&SwitchId(id))),
            Kind::Network => drop(self.networks.remove(&NetworkId(id))),
            Kind::Volume => drop(self.volumes.remove(&VolumeId(id))),
            Kind::Image => drop(self.images.remove(&ImageId(id))),
            Kind::Host => {
                if let Some(host) = self.hosts.remove(&HostId(id)) {
                    self.index.by_address.remove(host.access.address.as_str());
                }
            }
            Kind::Machine => {
                if let Some(machine) = self.machines.remove(&MachineId(id)) {
                    self.index.take(&machine);
                }
            }
        }
    }
}

impl Index {
    fn add(&mut self, machine: &Machine) {
        let id = machine.id;
        if let Some(host) = machine.host {
            self.on_host.entry(host).or_default().insert(id);
        }
        if let Some(host) = machine.arriving {
            self.arriving.entry(host).or_default().insert(id);
        }
        if let Some(cluster) = machine.cluster {
            self.in_cluster.entry(cluster).or_default().insert(id);
        }
        for volume in machine.volumes() {
            self.on_volume.entry(volume).or_default().insert(id);
        }
        for label in machine.label_words() {
            self.by_label.entry(label.into()).or_default().insert(id);
        }
        for nic in &machine.nics {
            self.by_mac.insert(nic.mac.as_str().into(), id);
        }
        self.by_name.insert(machine.name.as_str().into(), id);
        self.by_uuid.insert(machine.uuid, id);
    }

    fn take(&mut self, machine: &Machine) {
        let id = machine.id;
        if let Some(host) = machine.host {
            drop_from(&mut self.on_host, &host, id);
        }
        if let Some(host) = machine.arriving {
            drop_from(&mut self.arriving, &host, id);
        }
        if let Some(cluster) = machine.cluster {
            drop_from(&mut self.in_cluster, &cluster, id);
        }
        for volume in machine.volumes() {
            drop_from(&mut self.on_volume, &volume, id);
        }
        for label in machine.label_words() {
            drop_from(&mut self.by_label, &Arc::from(label), id);
        }
        for nic in &machine.nics {
            self.by_mac.remove(nic.mac.as_str());
        }
        if self.by_name.get(machine.name.as_str()) == Some(&id) {
            self.by_name.remove(machine.name.as_str());
        }
        self.by_uuid.remove(&machine.uuid);
    }
}

/// Labels as `key=value`, or `key` where there is no value.
fn label_words(
    labels: &std::collections::BTreeMap<String, String>,
) -> impl Iterator<Item = String> + '_ {
    labels.iter().map(|(k, v)| {
        if v.is_empty() {
            k.clone()
        } else {
            format!("{k}={v}")
        }
    })
}

/// Empty sets leave, so that two estates with the same facts are equal.
fn drop_from<K: Ord + Clone>(index: &mut OrdMap<K, OrdSet<MachineId>>, key: &K, id: MachineId) {
    let empty = index.get_mut(key).is_some_and(|set| {
        set.remove(&id);
        set.is_empty()
    });
    if empty {
        index.remove(key);
    }
}
