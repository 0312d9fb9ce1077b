//! Which hosts keepers are best put on, and where they agree: far apart, so that what takes one leaves the others.

use crate::{
    estate::{Cluster, ClusterKind, Estate, Host},
    ids::{HostId, VolumeId},
};
use std::{cmp::Reverse, collections::BTreeSet};

/// How many there shall be of a cluster.
pub const WANTED: usize = 3;

/// The volume on which keepers agree: the one that they have, else the one that most hosts mount, and of those the one on which
/// most machines lie: where that is gone little is left to bring back.
pub fn quorum(estate: &Estate, cluster: &Cluster) -> Option<VolumeId> {
    let had = cluster.keeping.as_ref().map(|k| k.volume);
    let had = had.filter(|v| estate.volumes.get(v).is_some_and(|v| v.ready));
    had.or_else(|| {
        let all = estate.volumes_of(cluster).into_iter().filter(|v| v.ready);
        let mounted = |v: VolumeId| estate.hosts_in(cluster.id).filter(|h| h.paths_up(v) > 0).count();
        let counted = all.map(|v| (mounted(v.id), v)).filter(|(n, _)| *n > 0);
        let machines = |v: VolumeId| estate.machines_with_disk_on(v).count();
        let best = counted.max_by_key(|(n, v)| (*n, machines(v.id), Reverse(v.name.clone()), Reverse(v.id)));
        best.map(|(_, v)| v.id)
    })
}

/// Hosts for the keepers of a cluster: those that they are on and that serve, then one by one the host that shares least with
/// those chosen, by name. Where there are fewer than three, a host elsewhere is the witness, at another site if there is one;
/// a cluster at two sites has one at a third, where there is such a host. Best is one that is in no cluster: nothing else runs on it.
pub fn choose(estate: &Estate, cluster: &Cluster, volume: VolumeId) -> Vec<HostId> {
    let serves = |h: &&Host| h.takes_machines() && h.paths_up(volume) > 0;
    let mut left: Vec<&Host> = estate.hosts_in(cluster.id).map(|h| &**h).filter(serves).collect();
    left.sort_by(|a, b| (&a.name, a.id).cmp(&(&b.name, b.id)));
    let has = |h: &Host| cluster.keeping.as_ref().is_some_and(|k| k.hosts.contains(&h.id));
    let mut chosen: Vec<&Host> = Vec::new();
    if cluster.kind == ClusterKind::TwoSites {
        // One at each, and one that neither takes with it.
        add(&mut chosen, &mut left, 2, &has);
        let sites: BTreeSet<_> = estate.hosts_in(cluster.id).map(|h| h.site).collect();
        chosen.extend(witness(estate, cluster, &has).filter(|w| !sites.contains(&w.site)));
    }
    add(&mut chosen, &mut left, WANTED, &has);
    if chosen.len() < WANTED && cluster.hosts.len() < WANTED {
        chosen.extend(witness(estate, cluster, &has));
    }
    chosen.iter().map(|h| h.id).collect()
}

/// The best of those left, one by one, up to so many.
fn add<'a>(chosen: &mut Vec<&'a Host>, left: &mut Vec<&'a Host>, many: usize, has: &impl Fn(&Host) -> bool) {
    while chosen.len() < many {
        let best = left.iter().enumerate().min_by_key(|(i, h)| (!has(h), shared(h, chosen), *i)).map(|(i, _)| i);
        let Some(best) = best else { break };
        chosen.push(left.remove(best));
    }
}

/// Fault domains that a host has in common with hosts that are chosen already; its site is the largest of them.
fn shared(host: &Host, chosen: &[&Host]) -> (usize, usize) {
    let sites = chosen.iter().filter(|c| c.site == host.site).count();
    let all = chosen.iter().flat_map(|c| Host::DOMAINS.iter().filter(|d| same(host, c, d)));
    (sites, all.count())
}

pub(super) fn same(a: &Host, b: &Host, domain: &str) -> bool {
    let place = |h: &Host| h.labels.get(domain).filter(|v| !v.is_empty()).cloned();
    a.site == b.site && place(a).is_some() && place(a) == place(b)
}

fn witness<'a>(estate: &'a Estate, cluster: &Cluster, has: &impl Fn(&Host) -> bool) -> Option<&'a Host> {
    let others = estate.hosts.values().filter(|h| h.takes_machines() && h.cluster != Some(cluster.id));
    let sites: BTreeSet<_> = estate.hosts_in(cluster.id).map(|h| h.site).collect();
    let best = others.min_by_key(|h| (!has(h), sites.contains(&h.site), h.cluster.is_some(), h.keepers.len(), h.name.clone(), h.id));
    best.map(|h| &**h)
}
