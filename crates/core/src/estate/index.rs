//! Ways into the estate besides the identifier. An entity is taken out before it changes and added after it, so two estates
//! with the same facts have the same index.

use super::{Machine, MachineState, Parent};
use crate::ids::{
    ClusterId, HostId, MachineId, NetworkId, PairId, SeriesId, SparePoolId, SwitchId, VolumeId,
};
use imbl::{OrdMap, OrdSet};
use std::{borrow::Borrow, sync::Arc};

/// Which entities have something in common.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Shared<K: Ord, I: Ord>(OrdMap<K, OrdSet<I>>);

impl<K: Ord, I: Ord> Default for Shared<K, I> {
    fn default() -> Self {
        Shared(OrdMap::new())
    }
}

impl<K: Ord + Clone, I: Ord + Copy> Shared<K, I> {
    pub(super) fn add<Q>(&mut self, key: &Q, id: I)
    where
        K: Borrow<Q>,
        Q: Ord + ToKey<K> + ?Sized,
    {
        self.0.entry(key.to_key()).or_default().insert(id);
    }
    /// Empty sets leave.
    pub(super) fn take<Q>(&mut self, key: &Q, id: I)
    where
        K: Borrow<Q>,
        Q: Ord + ?Sized,
    {
        let empty = self.0.get_mut(key).is_some_and(|set| {
            set.remove(&id);
            set.is_empty()
        });
        if empty {
            self.0.remove(key);
        }
    }
    pub(super) fn all<'a, Q>(&'a self, key: &Q) -> impl Iterator<Item = &'a I> + use<'a, K, I, Q>
    where
        K: Borrow<Q>,
        Q: Ord + ?Sized,
    {
        self.0.get(key).into_iter().flatten()
    }
    pub(super) fn count<Q>(&self, key: &Q) -> usize
    where
        K: Borrow<Q>,
        Q: Ord + ?Sized,
    {
        self.0.get(key).map_or(0, OrdSet::len)
    }
    /// The one with the lowest number.
    pub(super) fn first<Q>(&self, key: &Q) -> Option<I>
    where
        K: Borrow<Q>,
        Q: Ord + ?Sized,
    {
        self.0.get(key).and_then(OrdSet::get_min).copied()
    }
}

impl<I: Ord + Copy> Shared<Arc<str>, I> {
    /// Every key with how many share it.
    pub(super) fn sizes(&self) -> impl Iterator<Item = (&str, usize)> {
        self.0.iter().map(|(key, set)| (&**key, set.len()))
    }
}

/// A key as it is looked up, made into one that is kept.
pub(super) trait ToKey<K> {
    fn to_key(&self) -> K;
}

impl ToKey<Arc<str>> for str {
    fn to_key(&self) -> Arc<str> {
        self.into()
    }
}

impl<K: Copy> ToKey<K> for K {
    fn to_key(&self) -> K {
        *self
    }
}

#[derive(Debug, Clone, Default, PartialEq)]
pub(super) struct Index {
    pub(super) on_host: Shared<HostId, MachineId>,
    pub(super) arriving: Shared<HostId, MachineId>,
    pub(super) in_cluster: Shared<ClusterId, MachineId>,
    pub(super) on_volume: Shared<VolumeId, MachineId>,
    /// By the shared disks that they have.
    pub(super) sharing: Shared<uuid::Uuid, MachineId>,
    pub(super) of_pool: Shared<SparePoolId, MachineId>,
    /// By the version that their disks lie on.
    pub(super) lying_on: Shared<Parent, MachineId>,
    pub(super) by_label: Shared<Arc<str>, MachineId>,
    pub(super) paused: OrdSet<MachineId>,
    /// Found under a name that another has.
    pub(super) renamed: OrdSet<MachineId>,
    /// Off under them, with the host that went down.
    pub(super) fallen: OrdSet<(HostId, MachineId)>,
    pub(super) by_name: OrdMap<Arc<str>, MachineId>,
    pub(super) by_uuid: OrdMap<uuid::Uuid, MachineId>,
    /// By identities that they had before.
    pub(super) was: OrdMap<uuid::Uuid, MachineId>,
    /// Not where they belong, or with points of the time when they were replicas.
    pub(super) crossed: OrdSet<MachineId>,
    /// Two may have the same one: a record that somebody copied.
    pub(super) by_mac: Shared<Arc<str>, MachineId>,
    pub(super) by_address: OrdMap<Arc<str>, HostId>,
    pub(super) host_names: Shared<Arc<str>, HostId>,
    pub(super) switch_names: Shared<Arc<str>, SwitchId>,
    /// Volumes by what devices call them; one that is being made has no such name yet.
    pub(super) uids: Shared<Arc<str>, VolumeId>,
    pub(super) networks: Shared<ClusterId, NetworkId>,
    /// By the identity of the machine.
    pub(super) backups: Shared<uuid::Uuid, SeriesId>,
    /// By the identity of their original.
    pub(super) replicas: Shared<uuid::Uuid, MachineId>,
    /// By the pair that they came over.
    pub(super) over_pair: Shared<PairId, MachineId>,
}

impl Index {
    pub(super) fn add(&mut self, machine: &Machine) {
        let id = machine.id;
        if let Some(host) = machine.host {
            self.on_host.add(&host, id);
        }
        if let Some(host) = machine.arriving {
            self.arriving.add(&host, id);
        }
        if let Some(cluster) = machine.cluster {
            self.in_cluster.add(&cluster, id);
        }
        for volume in machine.volumes() {
            self.on_volume.add(&volume, id);
        }
        for share in &machine.shares {
            self.sharing.add(&share.disk, id);
        }
        if let Some(of) = &machine.of_pool {
            self.of_pool.add(&of.pool, id);
        }
        if let Some(parent) = machine.parent {
            self.lying_on.add(&parent, id);
        }
        for label in machine.label_words() {
            self.by_label.add(label.as_str(), id);
        }
        if let Some(replica) = &machine.replica {
            self.replicas.add(&replica.of, id);
            self.over_pair.add(&replica.pair, id);
        }
        if matches!(machine.state, MachineState::Paused(_)) {
            self.paused.insert(id);
        }
        if machine.found_as.is_some() {
            self.renamed.insert(id);
        }
        if let Some(fell) = &machine.fell {
            self.fallen.insert((fell.host, id));
        }
        for nic in &machine.nics {
            self.by_mac.add(nic.mac.as_str(), id);
        }
        self.by_name.insert(machine.name.as_str().into(), id);
        self.by_uuid.insert(machine.uuid, id);
        for uuid in &machine.was {
            self.was.insert(*uuid, id);
        }
        if machine.crossed.is_some() || !machine.points.is_empty() {
            self.crossed.insert(id);
        }
    }

    pub(super) fn take(&mut self, machine: &Machine) {
        let id = machine.id;
        if let Some(host) = machine.host {
            self.on_host.take(&host, id);
        }
        if let Some(host) = machine.arriving {
            self.arriving.take(&host, id);
        }
        if let Some(cluster) = machine.cluster {
            self.in_cluster.take(&cluster, id);
        }
        for volume in machine.volumes() {
            self.on_volume.take(&volume, id);
        }
        for share in &machine.shares {
            self.sharing.take(&share.disk, id);
        }
        if let Some(of) = &machine.of_pool {
            self.of_pool.take(&of.pool, id);
        }
        if let Some(parent) = machine.parent {
            self.lying_on.take(&parent, id);
        }
        for label in machine.label_words() {
            self.by_label.take(label.as_str(), id);
        }
        if let Some(replica) = &machine.replica {
            self.replicas.take(&replica.of, id);
            self.over_pair.take(&replica.pair, id);
        }
        self.paused.remove(&id);
        self.renamed.remove(&id);
        if let Some(fell) = &machine.fell {
            self.fallen.remove(&(fell.host, id));
        }
        for nic in &machine.nics {
            self.by_mac.take(nic.mac.as_str(), id);
        }
        if self.by_name.get(machine.name.as_str()) == Some(&id) {
            self.by_name.remove(machine.name.as_str());
        }
        // Two that change places are put down one after the other.
        if self.by_uuid.get(&machine.uuid) == Some(&id) {
            self.by_uuid.remove(&machine.uuid);
        }
        for uuid in &machine.was {
            if self.was.get(uuid) == Some(&id) {
                self.was.remove(uuid);
            }
        }
        self.crossed.remove(&id);
    }
}
