//! Everything under management, at one revision. Changed by a [`Pen`] alone.
//!
//! Large kinds are persistent maps of shared entities, so a fork costs microseconds. The indices are kept by
//! `put` and `remove` in this file and by nothing else.

mod any_point;
mod array;
mod backup;
mod cluster;
mod crossed;
mod fact;
mod failure;
mod fencing;
mod firmware;
mod first_boot;
mod front;
mod habits;
mod host;
mod image;
mod index;
mod inside;
mod installing;
mod job;
mod keeping;
mod lack;
mod machine;
mod maintenance;
mod moving;
mod naming;
mod network;
mod outage;
mod pair;
mod passage;
mod pen;
mod plan;
mod pledge;
mod pooled;
mod proof;
mod replica;
mod rule;
mod schedule;
mod service;
mod sharing;
mod snapshot;
mod spare_pool;
mod stray;
mod template;
mod unattached;
mod unusual;
mod volume;

pub use any_point::AnyPoint;
pub use array::{Array, ArrayCondition, ArrayKind, Controller, LeftLun, Pool};
pub use backup::{
    Bucket, Equal, Export, Kept, KeptDisk, Lies, PointAt, Series, Store, StoredPoint,
};
pub use cluster::{Cluster, ClusterKind, Demand, Site};
pub use crossed::Crossed;
pub use fact::{Fact, Kind, UpgradeError};
pub use failure::{Act, Failure, FailureStage, Restarted, Sort, StoryLine};
pub use fencing::{FencingTest, Means};
pub use firmware::{Chip, Firmware, FirmwareKind, FirmwareWish};
pub use first_boot::{Applied, Booted, Edition, FirstBoot, User};
pub use front::{
    Balancer, Certificate, Check, Front, Health, Manner, MemberState, Method, Protocol, Seen,
    Shown, Sticks, Validity,
};
pub use habits::{Habits, Often, Order, Whole};
pub use host::{Access, Bmc, Condition, Cpu, Hardware, Host, PsabiLevel};
pub use image::{Attached, Boot, BootFrom, Holds, Image};
pub use inside::{Folder, Inside, Item, ItemKind, LISTED, Partition, System, Within, shown};
pub use installing::Installing;
pub use job::{Goal, Job, is_ahead};
pub use keeping::{Keeper, Keeping};
pub use lack::{Lack, Reach};
pub use machine::{
    AsOf, Disk, Fell, Grows, Machine, MachineState, Memory, Nic, Now, Provisioning, Wanted,
};
pub use maintenance::Maintenance;
pub use moving::{Measured, Moved, RoundSeen};
pub use naming::{Dns, Due, Entered, TsigKey};
pub(crate) use network::wire;
pub use network::{
    AddressRange, Amiss, HostNet, NetRole, Network, Part, REST, Reservation, Standing, Subnet,
    Switch, SwitchPort, Uplink, WireFault,
};
pub use outage::{Cause, Outage, Outages};
pub use pair::{End, Pair, Road, Trouble, Way};
pub use passage::{Arrived, Between, Passage, PassageKind, Passed};
pub use pen::{Change, Pen, Touched};
pub use plan::{RecoveryPlan, Stage, Then};
pub use pledge::{Away, Clauses, Offers, Pledge, Pledged, Point, Taker};
pub use pooled::{DiskState, LocalDisk, PoolHealth, Pooled, Share};
pub use proof::{Came, Proof, Question, Reply};
pub use replica::{CopyPlace, Elsewhere, Replica, Twin};
pub use rule::{PlaceRule, RuleKind, Where, Who};
pub use schedule::Schedule;
pub use service::{Remote, Served, Service, Snaps};
pub use sharing::{Differs, Holder, Mode, SharedAs, SharedDisk, SharedDisks, Slot, TakeOver};
pub use snapshot::{Consistent, Snapshot, Snapshots};
pub use spare_pool::{Held, OfPool, SparePool};
pub use stray::{Stray, Strays, Why};
pub use template::{Parent, Sealed, Template, Version};
pub use unattached::{SpareDisk, Unattached};
pub use unusual::Unusual;
pub use volume::{Backing, Drift, Path, Volume};

use crate::ids::{
    ArrayId, BalancerId, ClusterId, FailureId, FirstBootId, FrontId, HostId, ImageId, JobId,
    MachineId, NetworkId, PairId, PassageId, PlanId, PledgeId, Revision, ScheduleId, SeriesId,
    SiteId, SparePoolId, StoreId, SwitchId, TemplateId, VolumeId,
};
use crate::moment::Moment;
use imbl::OrdMap;
use index::Index;
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
    /// Failures of hosts: those that are open, and the last that are over.
    pub failures: OrdMap<FailureId, Arc<Failure>>,
    pub balancers: OrdMap<BalancerId, Arc<Balancer>>,
    pub fronts: OrdMap<FrontId, Arc<Front>>,
    pub templates: OrdMap<TemplateId, Arc<Template>>,
    pub first_boots: OrdMap<FirstBootId, Arc<FirstBoot>>,
    pub spare_pools: OrdMap<SparePoolId, Arc<SparePool>>,
    pub schedules: OrdMap<ScheduleId, Arc<Schedule>>,
    pub pledges: OrdMap<PledgeId, Arc<Pledge>>,
    /// Copies that are made again and again.
    pub jobs: OrdMap<JobId, Arc<Job>>,
    /// Two sites over which machines are replicated.
    pub pairs: OrdMap<PairId, Arc<Pair>>,
    /// What is done when another site takes over, and how it went.
    pub plans: OrdMap<PlanId, Arc<RecoveryPlan>>,
    pub passages: OrdMap<PassageId, Arc<Passage>>,
    /// Places for backups, and what each has of one machine.
    pub stores: OrdMap<StoreId, Arc<Store>>,
    pub series: OrdMap<SeriesId, Arc<Series>>,
    index: Index,
}

impl Estate {
    pub fn machines_on(&self, host: HostId) -> impl Iterator<Item = &Arc<Machine>> {
        self.index
            .on_host
            .all(&host)
            .filter_map(|id| self.machines.get(id))
    }
    /// Machines that are being moved here; room is held for them.
    pub fn machines_arriving(&self, host: HostId) -> impl Iterator<Item = &Arc<Machine>> {
        self.index
            .arriving
            .all(&host)
            .filter_map(|id| self.machines.get(id))
    }
    pub fn machines_in(&self, cluster: ClusterId) -> impl Iterator<Item = &Arc<Machine>> {
        self.index
            .in_cluster
            .all(&cluster)
            .filter_map(|id| self.machines.get(id))
    }
    pub fn count_in(&self, cluster: ClusterId) -> usize {
        self.index.in_cluster.count(&cluster)
    }
    pub fn machines_with_disk_on(&self, volume: VolumeId) -> impl Iterator<Item = &Arc<Machine>> {
        self.index
            .on_volume
            .all(&volume)
            .filter_map(|id| self.machines.get(id))
    }
    pub fn machines_labelled<'a>(
        &'a self,
        label: &str,
    ) -> impl Iterator<Item = &'a Arc<Machine>> + use<'a> {
        self.index
            .by_label
            .all(label)
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
            .first(mac)
            .and_then(|id| self.machines.get(&id))
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
        self.index.by_label.sizes()
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
        let id = self.index.host_names.first(name)?;
        self.hosts.get(&id)
    }
    pub fn switch_named(&self, name: &str) -> Option<&Arc<Switch>> {
        let id = self.index.switch_names.first(name)?;
        self.switches.get(&id)
    }
    /// Machines that something holds up while they are on.
    pub fn machines_paused(&self) -> impl Iterator<Item = &Arc<Machine>> {
        let all = self.index.paused.iter();
        all.filter_map(|id| self.machines.get(id))
    }
    /// Machines that were found under a name that another machine has, until somebody gives them one.
    pub fn machines_renamed(&self) -> impl Iterator<Item = &Arc<Machine>> {
        let all = self.index.renamed.iter();
        all.filter_map(|id| self.machines.get(id))
    }
    /// Machines that should be on and are off since a host went down under them.
    pub fn machines_fallen(&self) -> impl Iterator<Item = &Arc<Machine>> {
        let all = self.index.fallen.iter();
        all.filter_map(|(_, id)| self.machines.get(id))
    }
    /// Those of them that were on this host.
    pub fn machines_fallen_from(&self, host: HostId) -> impl Iterator<Item = &Arc<Machine>> {
        let from = (host, MachineId(0))..=(host, MachineId(u64::MAX));
        let all = self.index.fallen.range(from);
        all.filter_map(|(_, id)| self.machines.get(id))
    }
    /// The silent host that a machine is on, with since when: nobody knows whether the machine runs.
    pub fn unknown(&self, machine: &Machine) -> Option<(&Arc<Host>, Moment)> {
        let host = self
            .hosts
            .get(&machine.host?)
            .filter(|_| !machine.is_off())?;
        Some((host, host.silent_since()?))
    }
    /// Where a machine is: at the site of its cluster, else of its host.
    pub fn site_of(&self, machine: &Machine) -> Option<SiteId> {
        let cluster = machine.cluster.and_then(|c| self.clusters.get(&c));
        let host = || self.hosts.get(&machine.host?).map(|h| h.site);
        cluster.map(|c| c.site).or_else(host)
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
        let id = self.index.uids.first(uid)?;
        self.volumes.get(&id)
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

    /// What lies on an array, with what of the array it is.
    pub fn volumes_on(&self, array: ArrayId) -> impl Iterator<Item = (&Arc<Volume>, &Backing)> {
        let all = self.volumes.values();
        let backed = all.filter_map(|v| Some((v, v.backing.as_ref()?)));
        backed.filter(move |(_, b)| b.array == array)
    }
    /// How many volumes a host shall mount and doesn't.
    pub fn unmounted(&self, host: &Host) -> usize {
        let shall = |v: &&Arc<Volume>| {
            v.ready && v.cluster.is_some() && v.cluster == host.cluster && v.shall_mount(host.id)
        };
        let all = self.volumes.values().filter(shall);
        all.filter(|v| !host.mounts.contains_key(&v.id)).count()
    }
    /// A host in service that answers, and mounts all that it shall by every path.
    pub fn is_steady(&self, host: &Host) -> bool {
        host.takes_machines() && host.lost_paths() == (0, 0) && self.unmounted(host) == 0
    }

    /// The failure of a host that is not over.
    pub fn failure_of(&self, host: HostId) -> Option<&Arc<Failure>> {
        let open = self.failures.values().rev().filter(|f| f.is_open());
        open.into_iter().find(|f| f.host == host)
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
            .chain(self.failures.values().cloned().map(Fact::Failure))
            .chain(self.balancers.values().cloned().map(Fact::Balancer))
            .chain(self.fronts.values().cloned().map(Fact::Front))
            .chain(self.templates.values().cloned().map(Fact::Template))
            .chain(self.first_boots.values().cloned().map(Fact::FirstBoot))
            .chain(self.spare_pools.values().cloned().map(Fact::SparePool))
            .chain(self.schedules.values().cloned().map(Fact::Schedule))
            .chain(self.jobs.values().cloned().map(Fact::Job))
            .chain(self.pairs.values().cloned().map(Fact::Pair))
            .chain(self.plans.values().cloned().map(Fact::RecoveryPlan))
            .chain(self.passages.values().cloned().map(Fact::Passage))
            .chain(self.pledges.values().cloned().map(Fact::Pledge))
            .chain(self.stores.values().cloned().map(Fact::Store))
            .chain(self.series.values().cloned().map(Fact::Series))
    }

    /// Whether there is such an entity.
    pub fn has(&self, kind: Kind, id: u64) -> bool {
        match kind {
            Kind::Meta => true,
            Kind::Site => self.sites.contains_key(&SiteId(id)),
            Kind::Cluster => self.clusters.contains_key(&ClusterId(id)),
            Kind::Host => self.hosts.contains_key(&HostId(id)),
            Kind::Array => self.arrays.contains_key(&ArrayId(id)),
            Kind::Volume => self.volumes.contains_key(&VolumeId(id)),
            Kind::Image => self.images.contains_key(&ImageId(id)),
            Kind::Switch => self.switches.contains_key(&SwitchId(id)),
            Kind::Network => self.networks.contains_key(&NetworkId(id)),
            Kind::Machine => self.machines.contains_key(&MachineId(id)),
            Kind::Failure => self.failures.contains_key(&FailureId(id)),
            Kind::Balancer => self.balancers.contains_key(&BalancerId(id)),
            Kind::Front => self.fronts.contains_key(&FrontId(id)),
            Kind::Template => self.templates.contains_key(&TemplateId(id)),
            Kind::FirstBoot => self.first_boots.contains_key(&FirstBootId(id)),
            Kind::SparePool => self.spare_pools.contains_key(&SparePoolId(id)),
            Kind::Schedule => self.schedules.contains_key(&ScheduleId(id)),
            Kind::Job => self.jobs.contains_key(&JobId(id)),
            Kind::Pair => self.pairs.contains_key(&PairId(id)),
            Kind::RecoveryPlan => self.plans.contains_key(&PlanId(id)),
            Kind::Passage => self.passages.contains_key(&PassageId(id)),
            Kind::Pledge => self.pledges.contains_key(&PledgeId(id)),
            Kind::Store => self.stores.contains_key(&StoreId(id)),
            Kind::Series => self.series.contains_key(&SeriesId(id)),
        }
    }

    /// Places one entity and keeps every index right.
    pub fn put(&mut self, fact: Fact) {
        match fact {
            Fact::Meta(next) => self.next = next,
            Fact::Site(site) => drop(self.sites.insert(site.id, site)),
            Fact::Cluster(cluster) => drop(self.clusters.insert(cluster.id, cluster)),
            Fact::Array(array) => drop(self.arrays.insert(array.id, array)),
            Fact::Image(image) => drop(self.images.insert(image.id, image)),
            Fact::Failure(failure) => drop(self.failures.insert(failure.id, failure)),
            Fact::Balancer(balancer) => drop(self.balancers.insert(balancer.id, balancer)),
            Fact::Front(front) => drop(self.fronts.insert(front.id, front)),
            Fact::Template(template) => drop(self.templates.insert(template.id, template)),
            Fact::FirstBoot(document) => drop(self.first_boots.insert(document.id, document)),
            Fact::SparePool(pool) => drop(self.spare_pools.insert(pool.id, pool)),
            Fact::Schedule(schedule) => drop(self.schedules.insert(schedule.id, schedule)),
            Fact::Job(job) => drop(self.jobs.insert(job.id, job)),
            Fact::Pair(pair) => drop(self.pairs.insert(pair.id, pair)),
            Fact::RecoveryPlan(plan) => drop(self.plans.insert(plan.id, plan)),
            Fact::Passage(passage) => drop(self.passages.insert(passage.id, passage)),
            Fact::Pledge(pledge) => drop(self.pledges.insert(pledge.id, pledge)),
            Fact::Store(store) => drop(self.stores.insert(store.id, store)),
            Fact::Series(series) => {
                self.remove(Kind::Series, series.id.0);
                self.index.backups.add(&series.machine, series.id);
                self.series.insert(series.id, series);
            }
            Fact::Host(host) => {
                self.remove(Kind::Host, host.id.0);
                self.index
                    .by_address
                    .insert(host.access.address.as_str().into(), host.id);
                self.index.host_names.add(host.name.as_str(), host.id);
                self.hosts.insert(host.id, host);
            }
            Fact::Switch(switch) => {
                self.remove(Kind::Switch, switch.id.0);
                self.index.switch_names.add(switch.name.as_str(), switch.id);
                self.switches.insert(switch.id, switch);
            }
            Fact::Network(network) => {
                self.remove(Kind::Network, network.id.0);
                self.index.networks.add(&network.cluster, network.id);
                self.networks.insert(network.id, network);
            }
            Fact::Volume(volume) => {
                self.remove(Kind::Volume, volume.id.0);
                self.index.uids.add(volume.uid.as_str(), volume.id);
                self.volumes.insert(volume.id, volume);
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
            Kind::Switch => {
                if let Some(switch) = self.switches.remove(&SwitchId(id)) {
                    self.index
                        .switch_names
                        .take(switch.name.as_str(), switch.id);
                }
            }
            Kind::Network => {
                if let Some(network) = self.networks.remove(&NetworkId(id)) {
                    self.index.networks.take(&network.cluster, network.id);
                }
            }
            Kind::Volume => {
                if let Some(volume) = self.volumes.remove(&VolumeId(id)) {
                    self.index.uids.take(volume.uid.as_str(), volume.id);
                }
            }
            Kind::Image => drop(self.images.remove(&ImageId(id))),
            Kind::Failure => drop(self.failures.remove(&FailureId(id))),
            Kind::Balancer => drop(self.balancers.remove(&BalancerId(id))),
            Kind::Front => drop(self.fronts.remove(&FrontId(id))),
            Kind::Template => drop(self.templates.remove(&TemplateId(id))),
            Kind::FirstBoot => drop(self.first_boots.remove(&FirstBootId(id))),
            Kind::SparePool => drop(self.spare_pools.remove(&SparePoolId(id))),
            Kind::Schedule => drop(self.schedules.remove(&ScheduleId(id))),
            Kind::Job => drop(self.jobs.remove(&JobId(id))),
            Kind::Pair => drop(self.pairs.remove(&PairId(id))),
            Kind::RecoveryPlan => drop(self.plans.remove(&PlanId(id))),
            Kind::Passage => drop(self.passages.remove(&PassageId(id))),
            Kind::Pledge => drop(self.pledges.remove(&PledgeId(id))),
            Kind::Store => drop(self.stores.remove(&StoreId(id))),
            Kind::Series => {
                if let Some(series) = self.series.remove(&SeriesId(id)) {
                    self.index.backups.take(&series.machine, series.id);
                }
            }
            Kind::Host => {
                if let Some(host) = self.hosts.remove(&HostId(id)) {
                    self.index.by_address.remove(host.access.address.as_str());
                    self.index.host_names.take(host.name.as_str(), host.id);
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
