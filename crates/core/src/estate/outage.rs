//! What has failed beneath volumes: the cause once, with everything that follows from it, instead of every volume and
//! host that feels it.

use super::{Array, Drift, Estate, Host, Volume};
use crate::ids::{ArrayId, HostId, MachineId, VolumeId};
use std::collections::{BTreeMap, BTreeSet};

/// What failed.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum Cause {
    /// No host reaches any portal of it.
    Array(ArrayId),
    /// No host reaches this portal; others of its array are reached.
    Portal(ArrayId, String),
    /// This host reaches no portal of an array that others reach.
    Cut(HostId, ArrayId),
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Outage {
    pub cause: Cause,
    /// The volumes that are felt to miss paths.
    pub volumes: BTreeSet<VolumeId>,
    /// The hosts that feel it.
    pub hosts: BTreeSet<HostId>,
    /// Machines that are halted by it.
    pub paused: BTreeSet<MachineId>,
}

/// All outages of an estate, the worst first.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Outages {
    pub all: Vec<Outage>,
    portals: BTreeSet<(ArrayId, String)>,
    cut: BTreeSet<(HostId, ArrayId)>,
}

/// Of one portal: the hosts that have a path by it, and those for which one works; in the order of their numbers.
#[derive(Default)]
struct Felt {
    hosts: Vec<HostId>,
    reached: Vec<HostId>,
}

/// Hosts are gone through in order, so that one that is there already is the last.
fn note(all: &mut Vec<HostId>, host: HostId) {
    if all.last() != Some(&host) {
        all.push(host);
    }
}

impl Outages {
    /// Read from what hosts say of their paths; silent hosts say nothing. Looks at every path once.
    pub fn of(estate: &Estate) -> Outages {
        let felt = felt(estate);
        let dead = |array: ArrayId, portal: &str| {
            let felt = felt.get(&(array, portal));
            felt.is_some_and(|f| f.reached.is_empty())
        };
        let mut found = Outages::default();
        let mut causes = Vec::new();
        for array in estate.arrays.values() {
            let known: Vec<&str> = felt
                .keys()
                .filter(|(a, _)| *a == array.id)
                .map(|(_, p)| *p)
                .collect();
            let down: Vec<&str> = known
                .iter()
                .copied()
                .filter(|p| dead(array.id, p))
                .collect();
            found
                .portals
                .extend(down.iter().map(|p| (array.id, (*p).to_owned())));
            if !known.is_empty() && down.len() == known.len() {
                causes.push(Cause::Array(array.id));
                continue;
            }
            let hosts: BTreeSet<HostId> = felt
                .iter()
                .filter(|((a, _), _)| *a == array.id)
                .flat_map(|(_, f)| f.hosts.iter().copied())
                .collect();
            let reaches = |h: HostId| {
                felt.iter()
                    .any(|((a, _), f)| *a == array.id && f.reached.binary_search(&h).is_ok())
            };
            let cut = hosts.into_iter().filter(|h| !reaches(*h));
            for host in cut {
                found.cut.insert((host, array.id));
                causes.push(Cause::Cut(host, array.id));
            }
            causes.extend(
                down.into_iter()
                    .map(|p| Cause::Portal(array.id, p.to_owned())),
            );
        }
        causes.sort();
        found.all = causes.into_iter().map(|c| outage(estate, c)).collect();
        found
    }

    /// Whether every path that is missing is missing because of an outage: then nothing that is done at the host or for
    /// the volume brings it back.
    pub fn explain(&self, estate: &Estate, volume: &Volume, drift: &Drift) -> bool {
        let Some(array) = volume
            .backing
            .as_ref()
            .and_then(|b| estate.arrays.get(&b.array))
        else {
            return false;
        };
        // While nobody reaches the array, nobody can be brought back to it.
        if self.all.iter().any(|o| o.cause == Cause::Array(array.id)) {
            return true;
        }
        let paths = drift.host.mounts.get(&volume.id);
        let mut listed = BTreeSet::new();
        for path in paths.into_iter().flatten() {
            listed.insert(path.portal.as_str());
            let known = self.portals.contains(&(array.id, path.portal.clone()))
                || self.cut.contains(&(drift.host.id, array.id));
            if !path.up && !known {
                return false;
            }
        }
        array.portals.iter().all(|p| listed.contains(p.as_str()))
    }
    /// The drift of a volume that no outage explains: what bringing it back can mend.
    pub fn mendable(&self, estate: &Estate, volume: &Volume) -> Vec<Drift> {
        let mut drift = volume.drift(estate);
        drift.retain(|d| !self.explain(estate, volume, d));
        drift
    }
    pub fn of_array(&self, array: ArrayId) -> impl Iterator<Item = &Outage> {
        self.all.iter().filter(move |o| match &o.cause {
            Cause::Array(a) | Cause::Portal(a, _) | Cause::Cut(_, a) => *a == array,
        })
    }
    pub fn portal_is_down(&self, array: &Array, portal: &str) -> bool {
        self.portals.contains(&(array.id, portal.to_owned()))
    }
    /// Whether a machine is halted by one of them.
    pub fn halts(&self, machine: MachineId) -> bool {
        self.all.iter().any(|o| o.paused.contains(&machine))
    }
}

fn felt(estate: &Estate) -> BTreeMap<(ArrayId, &str), Felt> {
    let mut felt: BTreeMap<(ArrayId, &str), Felt> = BTreeMap::new();
    for host in estate.hosts.values().filter(|h| h.reports()) {
        for (volume, paths) in &host.mounts {
            let backing = estate.volumes.get(volume).and_then(|v| v.backing.as_ref());
            let Some(array) = backing.map(|b| b.array) else {
                continue;
            };
            for path in paths {
                let of = felt.entry((array, path.portal.as_str())).or_default();
                note(&mut of.hosts, host.id);
                if path.up {
                    note(&mut of.reached, host.id);
                }
            }
        }
    }
    felt
}

fn outage(estate: &Estate, cause: Cause) -> Outage {
    let array = match &cause {
        Cause::Array(a) | Cause::Portal(a, _) | Cause::Cut(_, a) => *a,
    };
    let feels = |host: &Host| match &cause {
        Cause::Cut(h, _) => host.id == *h,
        Cause::Array(_) | Cause::Portal(..) => true,
    };
    let mut outage = Outage {
        volumes: BTreeSet::new(),
        hosts: BTreeSet::new(),
        paused: BTreeSet::new(),
        cause: cause.clone(),
    };
    for host in estate.hosts.values().filter(|h| h.reports() && feels(h)) {
        for (id, paths) in &host.mounts {
            let on = estate.volumes.get(id).and_then(|v| v.backing.as_ref());
            let by = |p: &super::Path| match &cause {
                Cause::Portal(_, portal) => p.portal == *portal,
                Cause::Array(_) | Cause::Cut(..) => true,
            };
            if on.is_some_and(|b| b.array == array) && paths.iter().any(|p| !p.up && by(p)) {
                outage.volumes.insert(*id);
                outage.hosts.insert(host.id);
            }
        }
    }
    if !matches!(cause, Cause::Portal(..)) {
        let halted = estate.machines_paused().filter(|m| {
            let here = m.host.is_some_and(|h| outage.hosts.contains(&h));
            let host = m.host.and_then(|h| estate.hosts.get(&h));
            let out = |v: &VolumeId| {
                outage.volumes.contains(v) && host.is_some_and(|h| h.paths_up(*v) == 0)
            };
            here && m.volumes().iter().any(out)
        });
        outage.paused = halted.map(|m| m.id).collect();
    }
    outage
}
