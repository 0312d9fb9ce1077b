//! Where no volume will do, one may be made: a pool of an array at the cluster's site that has room, and does what is promised.

use crate::{
    estate::{Array, Backing, Cluster, Estate, Fact, Machine, Pool, Volume},
    finding::{Finding, Rule},
    ids::VolumeId,
    moment::Moment,
    pledges::Lies,
    units::Bytes,
};
use std::sync::Arc;

/// No volume has this number.
const NONE: VolumeId = VolumeId(u64::MAX);

/// Whether what is promised of a machine would not hold on a volume of this pool.
fn breaks(estate: &Estate, (array, pool): (&Array, &Pool), machine: &Machine, now: Moment) -> bool {
    let Some(like) = estate.volumes.values().next() else { return false };
    let backing = Backing { array: array.id, lun: String::new(), pool: pool.name.clone() };
    let volume = Volume {
        id: NONE,
        backing: Some(backing),
        pooled: None,
        qualities: Default::default(),
        ..Volume::clone(like)
    };
    let mut then = estate.clone();
    then.put(Fact::Array(Arc::new(array.serving(NONE, &pool.name, now))));
    then.put(Fact::Volume(Arc::new(volume.clone())));
    Lies::on(&then, &volume).lacks(machine, now).is_some()
}

/// The roomiest pool in which a volume for these machines would do.
fn roomiest<'a>(estate: &'a Estate, cluster: &Cluster, machines: &[Machine], now: Moment) -> Option<(&'a Arc<Array>, &'a Pool)> {
    let needs: Bytes = machines.iter().map(Machine::first_room).sum();
    let first = machines.first()?;
    let near = estate.arrays.values().filter(|a| a.site == cluster.site && a.answers());
    let pools = near.flat_map(|a| a.pools.iter().map(move |p| (a, p)));
    let mut roomy: Vec<_> = pools.filter(|(_, p)| p.free() > needs).collect();
    roomy.sort_by_key(|(_, p)| std::cmp::Reverse(p.free()));
    roomy.into_iter().find(|(array, pool)| !breaks(estate, (array, pool), first, now))
}

/// Says so with what is wrong with the volumes that there are.
pub(super) fn offered(estate: &Estate, cluster: &Cluster, machines: &[Machine], now: Moment, found: &mut [Finding]) {
    let about = |f: &&mut Finding| f.stops() && matches!(f.rule, Rule::VolumeRoom | Rule::Storage);
    let Some(stop) = found.iter_mut().find(about) else { return };
    let Some((array, pool)) = roomiest(estate, cluster, machines, now) else { return };
    let text = format!("Or choose a new volume: pool {} of {} has {} free.", pool.name, array.name, pool.free());
    let had = stop.remedy.take().map_or_else(String::new, |r| format!("{r} "));
    stop.remedy = Some(format!("{had}{text}"));
}
