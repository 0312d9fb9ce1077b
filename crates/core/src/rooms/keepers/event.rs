//! What happens to keepers.

use crate::{
    estate::{Estate, Keeper, Keeping, Pen},
    ids::{ClusterId, HostId, VolumeId},
    road::{Entry, Tale},
    runs::Object,
};
use std::collections::{BTreeMap, BTreeSet};

#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    /// Whose keepers may decide; `last` is the last line of the journal that was there then.
    Named {
        cluster: ClusterId,
        volume: VolumeId,
        hosts: BTreeSet<HostId>,
        last: u64,
    },
    /// What a host runs now.
    Seen {
        host: HostId,
        keepers: BTreeMap<ClusterId, Keeper>,
        /// The clusters for which one of them decides, and did not before.
        began: Vec<ClusterId>,
    },
    /// Their journal is known up to this line.
    TookIn { cluster: ClusterId, last: u64 },
}

impl Tale for Event {
    fn absorb(&self, pen: &mut Pen<'_>) {
        match self {
            Event::Named { cluster, volume, hosts, last } => pen.cluster(*cluster, |c| {
                let same = c.keeping.as_ref().filter(|k| k.volume == *volume);
                let taken = same.map_or(*last, |k| k.taken);
                c.keeping = (!hosts.is_empty()).then(|| Keeping {
                    volume: *volume,
                    hosts: hosts.clone(),
                    taken,
                });
            }),
            Event::Seen { host, keepers, .. } => pen.host(*host, |h| h.keepers.clone_from(keepers)),
            Event::TookIn { cluster, last } => pen.cluster(*cluster, |c| {
                if let Some(keeping) = &mut c.keeping {
                    keeping.taken = keeping.taken.max(*last);
                }
            }),
        }
    }

    fn tell(&self, estate: &Estate) -> Option<Entry> {
        let name = |id: &ClusterId| Object::Cluster(*id).name(estate);
        match self {
            Event::Named { cluster, hosts, .. } => {
                let names: Vec<String> = hosts.iter().map(|h| Object::Host(*h).name(estate)).collect();
                let text = match names.as_slice() {
                    [] => format!("{} has no keepers any more: its manager alone decides", name(cluster)),
                    some => format!("The keepers of {} are on {}", name(cluster), some.join(", ")),
                };
                let about = hosts.iter().map(HostId::to_string).chain([cluster.to_string()]);
                Some(Entry::new("cluster", text, about.collect()))
            }
            Event::Seen { host, began, .. } => {
                let first = began.first()?;
                let names: Vec<String> = began.iter().map(name).collect();
                let who = Object::Host(*host).name(estate);
                let text = format!("The keeper on {who} decides for {}", names.join(", "));
                Some(Entry::new("cluster", text, vec![host.to_string(), first.to_string()]))
            }
            Event::TookIn { .. } => None,
        }
    }

    fn is_sighting(&self) -> bool {
        match self {
            Event::Named { .. } => false,
            Event::Seen { .. } | Event::TookIn { .. } => true,
        }
    }
}
