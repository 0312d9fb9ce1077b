//! Who decides a cluster's recovery when its manager can't.

use super::{Cluster, Estate};
use crate::ids::{HostId, VolumeId};
use serde::{Deserialize, Serialize};
use std::{collections::BTreeSet, sync::Arc};

/// The keepers of a cluster, and where they agree which of them decides.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Keeping {
    /// The volume that holds their lease and their journal.
    pub volume: VolumeId,
    /// The hosts on which they run; one of them may be of another cluster.
    pub hosts: BTreeSet<HostId>,
    /// The last line of their journal that was taken in.
    #[serde(default)]
    pub taken: u64,
}

impl Estate {
    /// The clusters of which a keeper is on this host.
    pub fn kept_on(&self, host: HostId) -> impl Iterator<Item = &Arc<Cluster>> {
        let names =
            move |c: &&Arc<Cluster>| c.keeping.as_ref().is_some_and(|k| k.hosts.contains(&host));
        self.clusters.values().filter(names)
    }
}

/// A keeper, as the host that runs it tells of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Keeper {
    /// It is the one that decides.
    pub keeps: bool,
}
