//! What a keeper is given: everything of its cluster that the manager knows, so that it can plan and act as the manager would.
//! Made by the manager whenever any of it changed; an older one never takes the place of a newer.

use crate::{
    epoch::Epoch,
    estate::{Cluster, Estate, Fact, Host, Kind, UpgradeError},
    guard::{Line, Stamp},
    ids::{ArrayId, ClusterId, HostId, MachineId, Revision, SecretRef, VolumeId},
    loads::MachineLoad,
    recounting::read_line,
    rooms::{Plans, World, absorb_all},
    runs::{GUEST_ANSWERS, Object, Pace, Runs},
    view::View,
};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
};

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Papers {
    pub epoch: Epoch,
    pub revision: Revision,
    pub cluster: ClusterId,
    /// Where keepers agree.
    pub volume: VolumeId,
    /// Kind, number, version and body, as the manager's database has them.
    facts: Vec<(String, u64, i32, Value)>,
    typical: Vec<(MachineId, MachineLoad)>,
    pace: Pace,
    /// Machines that runs of the manager change.
    pub busy: BTreeSet<MachineId>,
}

/// Everything that is wanted to open the devices of a cluster.
pub type Keys = BTreeMap<SecretRef, String>;

impl Papers {
    /// What the keepers of a cluster are given now; none where it has none, or they agree nowhere.
    pub fn of(view: &View, cluster: ClusterId, epoch: Epoch, volume: VolumeId) -> Option<Papers> {
        let estate = &view.estate;
        let cluster = estate.clusters.get(&cluster)?;
        let facts = facts(estate, cluster).into_iter().filter_map(|fact| {
            let body = fact.body().ok()?;
            Some((
                fact.kind().word().to_owned(),
                fact.id(),
                Fact::VERSION,
                body,
            ))
        });
        let machines = || estate.machines_in(cluster.id).map(|m| m.id);
        let typical = machines().filter_map(|m| Some((m, *view.loads.typical.get(&m)?)));
        let busy = machines().filter(|m| view.runs.holds(Object::Machine(*m)));
        Some(Papers {
            epoch,
            revision: estate.revision,
            cluster: cluster.id,
            volume,
            facts: facts.collect(),
            typical: typical.collect(),
            pace: view.pace.only(GUEST_ANSWERS.0),
            busy: busy.collect(),
        })
    }

    pub fn stamp(&self) -> Stamp {
        Stamp(self.epoch.number, self.revision.0)
    }

    /// The last line of the journal that the manager had taken in.
    pub fn taken(view: &View, cluster: ClusterId) -> u64 {
        let cluster = view.estate.clusters.get(&cluster);
        cluster
            .and_then(|c| c.keeping.as_ref())
            .map_or(0, |k| k.taken)
    }

    /// What the manager knew, with what the journal tells since.
    ///
    /// # Errors
    /// [`UpgradeError`] when they were made by a newer version.
    pub fn view(&self, journal: &[Line]) -> Result<View, UpgradeError> {
        let mut estate = Estate::default();
        for (kind, id, version, body) in &self.facts {
            estate.put(Fact::read(kind, *id, *version, body.clone())?);
        }
        estate.revision = self.revision;
        let mut view = View::of(estate);
        let loads = Arc::make_mut(&mut view.loads);
        loads.typical = self.typical.iter().copied().collect();
        view.pace = Arc::new(self.pace.clone());
        let taken = Papers::taken(&view, self.cluster);
        for line in journal.iter().filter(|l| l.index > taken) {
            let events = read_line(&view, &Plans::default(), self.cluster, line, &Host::reports);
            view = absorbed(&view, &events);
        }
        Ok(view)
    }

    /// The secrets that whoever acts on them must open.
    pub fn secrets(view: &View, cluster: ClusterId) -> BTreeSet<SecretRef> {
        let estate = &view.estate;
        let Some(cluster) = estate.clusters.get(&cluster) else {
            return BTreeSet::new();
        };
        let hosts = estate.hosts_in(cluster.id);
        let of_hosts =
            hosts.flat_map(|h: &Arc<Host>| [h.access.key, h.bmc.as_ref().and_then(|b| b.key)]);
        let arrays = arrays(estate, cluster);
        let of_arrays = arrays
            .iter()
            .filter_map(|id| estate.arrays.get(id))
            .map(|a| a.key);
        of_hosts.chain(of_arrays).flatten().collect()
    }
}

/// The view with events taken in; nothing that runs are told of.
pub fn absorbed(view: &View, events: &[crate::rooms::Event]) -> View {
    let mut world = World {
        estate: (*view.estate).clone(),
        runs: Runs::default(),
        plans: Plans::default(),
    };
    absorb_all(&mut world, events);
    view.with(world.estate)
}

fn arrays(estate: &Estate, cluster: &Cluster) -> BTreeSet<ArrayId> {
    let volumes = volumes(estate, cluster);
    let backing = volumes
        .iter()
        .filter_map(|v| estate.volumes.get(v)?.backing.as_ref());
    backing.map(|b| b.array).collect()
}

/// Those of the cluster, and whatever else its hosts mount or its machines lie on.
fn volumes(estate: &Estate, cluster: &Cluster) -> BTreeSet<VolumeId> {
    let own = estate.volumes_of(cluster).into_iter().map(|v| v.id);
    let mounted = estate
        .hosts_in(cluster.id)
        .flat_map(|h| h.mounts.keys().copied());
    let used = estate.machines_in(cluster.id).flat_map(|m| m.volumes());
    own.chain(mounted).chain(used).collect()
}

fn facts(estate: &Estate, cluster: &Cluster) -> Vec<Fact> {
    let volumes = volumes(estate, cluster);
    let arrays = arrays(estate, cluster);
    let mut facts = vec![Fact::Meta(estate.next)];
    facts.extend(estate.sites.values().cloned().map(Fact::Site));
    facts.extend(estate.clusters.get(&cluster.id).cloned().map(Fact::Cluster));
    facts.extend(estate.hosts_in(cluster.id).cloned().map(Fact::Host));
    facts.extend(
        arrays
            .iter()
            .filter_map(|id| estate.arrays.get(id))
            .cloned()
            .map(Fact::Array),
    );
    facts.extend(
        volumes
            .iter()
            .filter_map(|id| estate.volumes.get(id))
            .cloned()
            .map(Fact::Volume),
    );
    let images = estate
        .images
        .values()
        .filter(|i| volumes.contains(&i.volume));
    facts.extend(images.cloned().map(Fact::Image));
    facts.extend(estate.switches.values().cloned().map(Fact::Switch));
    facts.extend(
        estate
            .networks_of(cluster.id)
            .into_iter()
            .cloned()
            .map(Fact::Network),
    );
    facts.extend(estate.machines_in(cluster.id).cloned().map(Fact::Machine));
    let failures = estate.failures.values().filter(|f| f.cluster == cluster.id);
    facts.extend(failures.cloned().map(Fact::Failure));
    debug_assert!(facts.iter().any(|f| f.kind() == Kind::Cluster));
    facts
}

/// Hosts that a keeper of the cluster hears, or should.
pub fn heard(view: &View, cluster: ClusterId) -> Vec<HostId> {
    let hosts = view.estate.hosts_in(cluster);
    hosts
        .filter(|h| h.access.key.is_some())
        .map(|h| h.id)
        .collect()
}
