//! Whether anything changed for a cluster: most of what happens in an estate doesn't touch it.

use crate::{
    estate::{Cluster, Host, Machine, Network, Switch, Volume},
    ids::{MachineId, NetworkId, SwitchId, VolumeId},
    loads::MachineLoad,
    view::View,
};
use imbl::OrdMap;
use std::sync::Arc;

/// Everything that an answer rests on, held, so that the same thing is known by its address.
#[derive(Debug, Clone)]
pub struct Rests {
    cluster: Arc<Cluster>,
    hosts: Vec<Arc<Host>>,
    machines: Vec<Arc<Machine>>,
    volumes: OrdMap<VolumeId, Arc<Volume>>,
    networks: OrdMap<NetworkId, Arc<Network>>,
    switches: OrdMap<SwitchId, Arc<Switch>>,
    typical: OrdMap<MachineId, MachineLoad>,
}

impl Rests {
    pub fn of(view: &View, cluster: &Arc<Cluster>) -> Rests {
        let estate = &view.estate;
        let hosts: Vec<_> = estate.hosts_in(cluster.id).cloned().collect();
        let machines = hosts.iter().flat_map(|h| {
            let (here, coming) = (estate.machines_on(h.id), estate.machines_arriving(h.id));
            let fallen = estate.machines_fallen_from(h.id);
            here.chain(coming).chain(fallen).cloned()
        });
        Rests {
            cluster: cluster.clone(),
            machines: machines.collect(),
            hosts,
            volumes: estate.volumes.clone(),
            networks: estate.networks.clone(),
            switches: estate.switches.clone(),
            typical: view.loads.typical.clone(),
        }
    }
    /// Whether the cluster says what it said.
    pub fn same_cluster(&self, cluster: &Cluster) -> bool {
        *self.cluster == *cluster
    }
    /// Whether the cluster, its hosts and its machines are what they were; what lies beneath them may have changed.
    pub fn same_places(&self, other: &Rests) -> bool {
        Arc::ptr_eq(&self.cluster, &other.cluster)
            && each(&self.hosts, &other.hosts)
            && each(&self.machines, &other.machines)
    }
    pub fn same(&self, other: &Rests) -> bool {
        self.same_places(other)
            && self.volumes.ptr_eq(&other.volumes)
            && self.networks.ptr_eq(&other.networks)
            && self.switches.ptr_eq(&other.switches)
            && self.typical.ptr_eq(&other.typical)
    }
}

fn each<T>(a: &[Arc<T>], b: &[Arc<T>]) -> bool {
    a.len() == b.len() && a.iter().zip(b).all(|(a, b)| Arc::ptr_eq(a, b))
}
