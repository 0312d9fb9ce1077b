//! What a step can take, and how.

use crate::{
    estate::{CopyPlace, Elsewhere, Estate},
    ids::{
        ArrayId, BalancerId, ClusterId, FirstBootId, FrontId, HostId, ImageId, JobId, MachineId,
        NetworkId, PairId, PlanId, PledgeId, ScheduleId, SparePoolId, StoreId, SwitchId,
        TemplateId, VolumeId,
    },
};
use serde::{Deserialize, Serialize};
use std::fmt;

/// Something that a step can take.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Object {
    Host(HostId),
    /// The management controller of a host: it answers while the host doesn't.
    Controller(HostId),
    Cluster(ClusterId),
    Machine(MachineId),
    Volume(VolumeId),
    Array(ArrayId),
    Network(NetworkId),
    Switch(SwitchId),
    Image(ImageId),
    Balancer(BalancerId),
    Front(FrontId),
    Template(TemplateId),
    FirstBoot(FirstBootId),
    SparePool(SparePoolId),
    Schedule(ScheduleId),
    Pledge(PledgeId),
    Store(StoreId),
    Job(JobId),
    Pair(PairId),
    Plan(PlanId),
}

impl Object {
    /// What people call it.
    pub fn name(self, estate: &Estate) -> String {
        match self {
            Object::Host(id) => estate.hosts.get(&id).map(|h| h.name.clone()),
            Object::Controller(id) => {
                let host = estate.hosts.get(&id);
                host.map(|h| format!("the controller of {}", h.name))
            }
            Object::Cluster(id) => estate.clusters.get(&id).map(|c| c.name.clone()),
            Object::Machine(id) => estate.machines.get(&id).map(|m| m.name.clone()),
            Object::Volume(id) => estate.volumes.get(&id).map(|v| v.name.clone()),
            Object::Array(id) => estate.arrays.get(&id).map(|a| a.name.clone()),
            Object::Network(id) => estate.networks.get(&id).map(|n| n.name.clone()),
            Object::Switch(id) => estate.switches.get(&id).map(|s| s.name.clone()),
            Object::Image(id) => estate.images.get(&id).map(|i| i.name.clone()),
            Object::Balancer(id) => estate.balancers.get(&id).map(|b| b.name.clone()),
            Object::Front(id) => estate.fronts.get(&id).map(|f| f.name.clone()),
            Object::Template(id) => estate.templates.get(&id).map(|t| t.name.clone()),
            Object::FirstBoot(id) => estate.first_boots.get(&id).map(|d| d.name.clone()),
            Object::SparePool(id) => estate.spare_pools.get(&id).map(|p| p.name.clone()),
            Object::Schedule(id) => estate.schedules.get(&id).map(|s| s.name.clone()),
            Object::Pledge(id) => estate.pledges.get(&id).map(|p| p.name.clone()),
            Object::Store(id) => estate.stores.get(&id).map(|s| s.name.clone()),
            Object::Job(id) => estate.jobs.get(&id).map(|j| j.name.clone()),
            Object::Pair(id) => estate.pairs.get(&id).map(|p| p.name.clone()),
            Object::Plan(id) => estate.plans.get(&id).map(|p| p.name.clone()),
        }
        .unwrap_or_else(|| self.to_string())
    }
}

impl fmt::Display for Object {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Object::Host(id) => id.fmt(f),
            Object::Controller(id) => write!(f, "controller-{}", id.0),
            Object::Cluster(id) => id.fmt(f),
            Object::Machine(id) => id.fmt(f),
            Object::Volume(id) => id.fmt(f),
            Object::Array(id) => id.fmt(f),
            Object::Network(id) => id.fmt(f),
            Object::Switch(id) => id.fmt(f),
            Object::Image(id) => id.fmt(f),
            Object::Balancer(id) => id.fmt(f),
            Object::Front(id) => id.fmt(f),
            Object::Template(id) => id.fmt(f),
            Object::FirstBoot(id) => id.fmt(f),
            Object::SparePool(id) => id.fmt(f),
            Object::Schedule(id) => id.fmt(f),
            Object::Pledge(id) => id.fmt(f),
            Object::Store(id) => id.fmt(f),
            Object::Job(id) => id.fmt(f),
            Object::Pair(id) => id.fmt(f),
            Object::Plan(id) => id.fmt(f),
        }
    }
}

/// Shared: something is placed on it. Exclusive: it is changed or emptied.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Lock {
    pub object: Object,
    pub exclusive: bool,
}

impl Lock {
    pub fn exclusive(object: Object) -> Self {
        Lock {
            object,
            exclusive: true,
        }
    }
    pub fn shared(object: Object) -> Self {
        Lock {
            object,
            exclusive: false,
        }
    }
    pub fn clashes(&self, other: &Lock) -> bool {
        self.object == other.object && (self.exclusive || other.exclusive)
    }
}

impl Object {
    /// Whether it is still there.
    pub fn exists(self, estate: &Estate) -> bool {
        match self {
            Object::Host(id) | Object::Controller(id) => estate.hosts.contains_key(&id),
            Object::Cluster(id) => estate.clusters.contains_key(&id),
            Object::Machine(id) => estate.machines.contains_key(&id),
            Object::Volume(id) => estate.volumes.contains_key(&id),
            Object::Array(id) => estate.arrays.contains_key(&id),
            Object::Network(id) => estate.networks.contains_key(&id),
            Object::Switch(id) => estate.switches.contains_key(&id),
            Object::Image(id) => estate.images.contains_key(&id),
            Object::Balancer(id) => estate.balancers.contains_key(&id),
            Object::Front(id) => estate.fronts.contains_key(&id),
            Object::Template(id) => estate.templates.contains_key(&id),
            Object::FirstBoot(id) => estate.first_boots.contains_key(&id),
            Object::SparePool(id) => estate.spare_pools.contains_key(&id),
            Object::Schedule(id) => estate.schedules.contains_key(&id),
            Object::Pledge(id) => estate.pledges.contains_key(&id),
            Object::Store(id) => estate.stores.contains_key(&id),
            Object::Job(id) => estate.jobs.contains_key(&id),
            Object::Pair(id) => estate.pairs.contains_key(&id),
            Object::Plan(id) => estate.plans.contains_key(&id),
        }
    }
}

impl From<&Elsewhere<'_>> for Object {
    /// What it can be looked at as.
    fn from(there: &Elsewhere<'_>) -> Object {
        match there.at {
            CopyPlace::Store(id) => Object::Store(id),
            CopyPlace::Replica(id, _) => Object::Machine(id),
        }
    }
}
