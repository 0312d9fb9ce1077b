//! Whether an assessment that was searched a moment ago still holds: what it rests on is compared, not searched again.

use super::{Assessment, Work};
use crate::{
    estate::Estate,
    ids::{ClusterId, HostId},
    runs::Object,
};
use std::{collections::BTreeSet, sync::Arc};

impl<A, S: Work> Assessment<A, S> {
    /// Whether everything that was looked at is in `now` as it was in `before`: what is small entirely, of hosts and machines
    /// those of the clusters that the plan touches. Pointers are compared, so this costs microseconds.
    pub fn still_holds(&self, before: &Estate, now: &Estate) -> bool {
        let small = before.next == now.next
            && before.sites.ptr_eq(&now.sites)
            && before.clusters.ptr_eq(&now.clusters)
            && before.volumes.ptr_eq(&now.volumes)
            && before.images.ptr_eq(&now.images)
            && before.networks.ptr_eq(&now.networks)
            && before.switches.ptr_eq(&now.switches)
            && before.arrays.ptr_eq(&now.arrays);
        small
            && self
                .clusters(now)
                .into_iter()
                .all(|c| same_cluster(before, now, c))
            && self.objects().into_iter().all(|o| same(before, now, o))
    }

    fn objects(&self) -> BTreeSet<Object> {
        let steps = self.steps.iter().flat_map(|p| p.step.about());
        let places = self.places.iter().map(|p| Object::Host(p.host));
        steps.chain(places).collect()
    }

    fn clusters(&self, estate: &Estate) -> BTreeSet<ClusterId> {
        let of = |object: Object| match object {
            Object::Machine(id) => estate.machines.get(&id)?.cluster,
            Object::Host(id) => estate.hosts.get(&id)?.cluster,
            Object::Cluster(id) => Some(id),
            _ => None,
        };
        self.objects().into_iter().filter_map(of).collect()
    }
}

fn same(before: &Estate, now: &Estate, object: Object) -> bool {
    match object {
        Object::Machine(id) => same_entry(before.machines.get(&id), now.machines.get(&id)),
        Object::Host(id) => same_host(before, now, id),
        // Compared whole.
        _ => true,
    }
}

fn same_entry<T>(a: Option<&Arc<T>>, b: Option<&Arc<T>>) -> bool {
    match (a, b) {
        (Some(a), Some(b)) => Arc::ptr_eq(a, b),
        (None, None) => true,
        _ => false,
    }
}

fn same_host(before: &Estate, now: &Estate, id: HostId) -> bool {
    same_entry(before.hosts.get(&id), now.hosts.get(&id))
}

fn same_cluster(before: &Estate, now: &Estate, id: ClusterId) -> bool {
    let hosts = now
        .clusters
        .get(&id)
        .map(|c| &c.hosts)
        .into_iter()
        .flatten();
    let machines = |estate: &Estate| estate.machines_in(id).map(Arc::as_ptr).collect::<Vec<_>>();
    hosts.into_iter().all(|h| same_host(before, now, *h)) && machines(before) == machines(now)
}
