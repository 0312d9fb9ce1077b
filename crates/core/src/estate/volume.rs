//! A piece of shared storage that hosts mount and that holds disks and machine records.

use super::{Cluster, Estate, Fact, Host, Pooled, SharedDisks, Strays, Unattached};
use crate::{
    ids::{ArrayId, ClusterId, HostId, VolumeId},
    text::Line,
    units::Bytes,
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;
use std::sync::Arc;

/// What it lies on.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Backing {
    pub array: ArrayId,
    /// The array's own number of it.
    pub lun: String,
    pub pool: String,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Volume {
    pub id: VolumeId,
    /// The volume's own identity; never a device name. Empty until the array has made it.
    pub uid: String,
    pub name: String,
    pub cluster: Option<ClusterId>,
    pub capacity: Bytes,
    /// As last reported by a host that mounts it.
    pub used: Bytes,
    /// None while the array that it lies on is not connected.
    #[serde(default)]
    pub backing: Option<Backing>,
    /// What it is made of, where it lies on no array but on the hosts' own disks.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pooled: Option<Box<Pooled>>,
    /// Its LUN was made by us, for it.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub made: bool,
    /// The hosts that shall mount it; none: all of the cluster.
    #[serde(default)]
    pub intended: Option<BTreeSet<HostId>>,
    /// False while the run that connects it hasn't finished.
    #[serde(default = "yes")]
    pub ready: bool,
    /// What a person states that it offers.
    #[serde(default)]
    pub qualities: BTreeSet<Line>,
    #[serde(default)]
    pub note: String,
    /// Disks on it that no machine has.
    #[serde(default, skip_serializing_if = "Unattached::is_unheard")]
    pub unattached: Box<Unattached>,
    /// Disks on it that several machines have.
    #[serde(default, skip_serializing_if = "SharedDisks::is_unheard")]
    pub shared: Box<SharedDisks>,
    /// Records on it that no machine is held for.
    #[serde(default, skip_serializing_if = "Strays::is_empty")]
    pub strays: Box<Strays>,
}

fn yes() -> bool {
    true
}

/// One way from a host to a volume.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Path {
    pub portal: String,
    pub uplink: String,
    pub up: bool,
}

/// A host that shall mount a volume and does not, or not by enough paths.
#[derive(Debug, Clone, PartialEq)]
pub struct Drift {
    pub host: Arc<Host>,
    /// Paths that work.
    pub up: usize,
    /// Paths that there should be: one for each portal of the array, at least two.
    pub of: usize,
}

impl Drift {
    pub fn misses(&self) -> bool {
        self.up == 0
    }
}

impl Estate {
    /// A volume that is being connected, as its hosts have it once it is: all of them, by all ways.
    pub fn connect(&mut self, volume: &Volume) {
        let way = Path {
            portal: String::new(),
            uplink: String::new(),
            up: true,
        };
        let ways = vec![way; volume.portals(self)];
        let hosts: Vec<Arc<Host>> = volume.hosts(self).into_iter().cloned().collect();
        for host in hosts {
            let mut host = Host::clone(&host);
            host.mounts.insert(volume.id, ways.clone());
            self.put(Fact::Host(host.into()));
        }
    }
}

impl Volume {
    pub fn free(&self) -> Bytes {
        self.capacity.less(self.used)
    }
    pub fn shall_mount(&self, host: HostId) -> bool {
        self.intended.as_ref().is_none_or(|set| set.contains(&host))
    }
    /// The hosts that shall mount it, by name.
    pub fn hosts<'a>(&'a self, estate: &'a Estate) -> Vec<&'a Arc<Host>> {
        let members = self.cluster.into_iter().flat_map(|c| estate.hosts_in(c));
        let mut all: Vec<_> = members.filter(|h| self.shall_mount(h.id)).collect();
        all.sort_by(|a, b| a.name.cmp(&b.name));
        all
    }
    /// How many paths a host should have to it.
    pub fn portals(&self, estate: &Estate) -> usize {
        // The hosts themselves are the way there.
        if self.pooled.is_some() {
            return 1;
        }
        let array = self
            .backing
            .as_ref()
            .and_then(|b| estate.arrays.get(&b.array));
        array.map_or(2, |a| a.portals.len()).max(1)
    }
    /// Where it is not as it was meant to be (rules, section 8).
    pub fn drift(&self, estate: &Estate) -> Vec<Drift> {
        let of = self.portals(estate);
        let hosts = self.hosts(estate).into_iter();
        hosts
            .filter(|h| h.reports())
            .map(|h| Drift {
                up: h.paths_up(self.id),
                of,
                host: h.clone(),
            })
            .filter(|d| d.up < d.of)
            .collect()
    }
    /// What the disks on it could grow to, deleted machines included.
    pub fn promised(&self, estate: &Estate) -> Bytes {
        estate
            .machines_with_disk_on(self.id)
            .map(|m| m.disk_total())
            .chain(self.unattached.disks.values().map(|d| d.size))
            .chain(self.shared.disks.values().map(|d| d.size))
            .sum()
    }
}

impl Estate {
    /// A host that mounts the volume and answers; the first by name.
    pub fn reach(&self, volume: VolumeId) -> Option<&Arc<Host>> {
        let v = self.volumes.get(&volume)?;
        v.hosts(self)
            .into_iter()
            .find(|h| h.accepts_work() && h.paths_up(volume) > 0)
    }
    /// The volumes of a cluster, by name.
    pub fn volumes_of<'a>(&'a self, cluster: &Cluster) -> Vec<&'a Arc<Volume>> {
        let id = cluster.id;
        let mut all: Vec<_> = self
            .volumes
            .values()
            .filter(|v| v.cluster == Some(id))
            .collect();
        all.sort_by(|a, b| a.name.cmp(&b.name));
        all
    }
}
