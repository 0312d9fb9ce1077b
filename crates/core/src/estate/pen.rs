//! How the estate is changed: with a [`Pen`] that notes everything it touches. What an event writes stands in its room.

use super::{
    Array, Balancer, Cluster, Estate, Fact, Failure, FirstBoot, Front, Host, Image, Job, Kind,
    Machine, Network, Pair, Passage, Pledge, RecoveryPlan, Schedule, Series, Site, SparePool,
    Store, Switch, Template, Volume,
};
use crate::ids::{
    ArrayId, BalancerId, ClusterId, FailureId, FirstBootId, FrontId, HostId, ImageId, JobId,
    MachineId, NetworkId, PairId, PassageId, PlanId, PledgeId, ScheduleId, SeriesId, SparePoolId,
    StoreId, SwitchId, TemplateId, VolumeId,
};
use std::{collections::BTreeMap, sync::Arc};

/// What became of an entity.
#[derive(Debug, Clone, PartialEq)]
pub enum Touched {
    Put(Fact),
    Gone,
}

/// Everything that events touched, each entity once, in its last state.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Change {
    pub touched: BTreeMap<(Kind, u64), Touched>,
}

impl Change {
    pub fn merge(&mut self, later: Change) {
        self.touched.extend(later.touched);
    }
    pub fn is_empty(&self) -> bool {
        self.touched.is_empty()
    }
    /// Whether something came into it that was not there before; the counter of numbers counts for nothing.
    pub fn adds(&self, before: &Estate) -> bool {
        let mut put = self.touched.iter().filter(|(_, t)| **t != Touched::Gone);
        put.any(|((kind, id), _)| *kind != Kind::Meta && !before.has(*kind, *id))
    }
}

/// The estate while one event is folded in: every write is noted, and one that changes nothing is none.
pub struct Pen<'a> {
    estate: &'a mut Estate,
    change: Change,
}

impl<'a> Pen<'a> {
    pub fn on(estate: &'a mut Estate) -> Self {
        Pen {
            estate,
            change: Change::default(),
        }
    }
    /// What was touched.
    pub fn done(self) -> Change {
        self.change
    }
    pub fn estate(&self) -> &Estate {
        self.estate
    }
    pub fn put(&mut self, fact: Fact) {
        self.change
            .touched
            .insert((fact.kind(), fact.id()), Touched::Put(fact.clone()));
        self.estate.put(fact);
    }
    fn remove(&mut self, kind: Kind, id: u64) {
        self.change.touched.insert((kind, id), Touched::Gone);
        self.estate.remove(kind, id);
    }
    /// Numbers given out are never given again, also after a purge.
    pub fn used(&mut self, id: u64) {
        if id >= self.estate.next {
            self.put(Fact::Meta(id + 1));
        }
    }
}

/// For one kind of entity: add it under a number of its own, edit it if it is there, remove it.
macro_rules! writes {
    ($add:ident, $edit:ident, $gone:ident, $map:ident, $entity:ident, $id:ident) => {
        impl Pen<'_> {
            pub fn $add(&mut self, entity: &$entity) {
                self.used(entity.id.0);
                self.put(Fact::$entity(Arc::new(entity.clone())));
            }
            pub fn $edit(&mut self, id: $id, edit: impl FnOnce(&mut $entity)) {
                if let Some(old) = self.estate.$map.get(&id) {
                    let mut new = $entity::clone(old);
                    edit(&mut new);
                    if new != **old {
                        self.put(Fact::$entity(Arc::new(new)));
                    }
                }
            }
            pub fn $gone(&mut self, id: $id) {
                if self.estate.$map.contains_key(&id) {
                    self.remove(Kind::$entity, id.0);
                }
            }
        }
    };
}

writes!(
    add_cluster,
    cluster,
    drop_cluster,
    clusters,
    Cluster,
    ClusterId
);
writes!(add_host, host, drop_host, hosts, Host, HostId);
writes!(add_array, array, drop_array, arrays, Array, ArrayId);
writes!(add_volume, volume, drop_volume, volumes, Volume, VolumeId);
writes!(add_image, image, drop_image, images, Image, ImageId);
writes!(add_switch, switch, drop_switch, switches, Switch, SwitchId);
writes!(
    add_network,
    network,
    drop_network,
    networks,
    Network,
    NetworkId
);
writes!(
    add_machine,
    machine,
    drop_machine,
    machines,
    Machine,
    MachineId
);

writes!(
    add_failure,
    failure,
    drop_failure,
    failures,
    Failure,
    FailureId
);

writes!(
    add_balancer,
    balancer,
    drop_balancer,
    balancers,
    Balancer,
    BalancerId
);
writes!(add_front, front, drop_front, fronts, Front, FrontId);
writes!(
    add_first_boot,
    first_boot,
    drop_first_boot,
    first_boots,
    FirstBoot,
    FirstBootId
);
writes!(add_store, store, drop_store, stores, Store, StoreId);
writes!(add_series, series, drop_series, series, Series, SeriesId);
writes!(add_job, job, drop_job, jobs, Job, JobId);
writes!(add_pair, pair, drop_pair, pairs, Pair, PairId);
writes!(add_plan, plan, drop_plan, plans, RecoveryPlan, PlanId);
writes!(
    add_passage,
    passage,
    drop_passage,
    passages,
    Passage,
    PassageId
);
writes!(add_pledge, pledge, drop_pledge, pledges, Pledge, PledgeId);
writes!(
    add_schedule,
    schedule,
    drop_schedule,
    schedules,
    Schedule,
    ScheduleId
);
writes!(
    add_spare_pool,
    spare_pool,
    drop_spare_pool,
    spare_pools,
    SparePool,
    SparePoolId
);
writes!(
    add_template,
    template,
    drop_template,
    templates,
    Template,
    TemplateId
);

impl Pen<'_> {
    pub fn add_site(&mut self, site: &Site) {
        self.used(site.id.0);
        self.put(Fact::Site(Arc::new(site.clone())));
    }
}
