//! Where no volume will do, one may be made: a pool of an array at the cluster's site that has room.

use crate::{
    estate::{Array, Cluster, Estate, Machine, Pool},
    finding::{Finding, Rule},
    units::Bytes,
};
use std::sync::Arc;

/// The roomiest pool in which a volume for these machines fits.
fn roomiest<'a>(estate: &'a Estate, cluster: &Cluster, machines: &[Machine]) -> Option<(&'a Arc<Array>, &'a Pool)> {
    let needs: Bytes = machines.iter().map(Machine::first_room).sum();
    let near = estate.arrays.values().filter(|a| a.site == cluster.site && a.answers());
    let pools = near.flat_map(|a| a.pools.iter().map(move |p| (a, p)));
    pools.filter(|(_, p)| p.free() > needs).max_by_key(|(_, p)| p.free())
}

/// Says so with what is wrong with the volumes that there are.
pub(super) fn offered(estate: &Estate, cluster: &Cluster, machines: &[Machine], found: &mut [Finding]) {
    let Some((array, pool)) = roomiest(estate, cluster, machines) else { return };
    let about = |f: &&mut Finding| f.stops() && matches!(f.rule, Rule::VolumeRoom | Rule::Storage);
    let Some(stop) = found.iter_mut().find(about) else { return };
    let text = format!("Or choose a new volume: pool {} of {} has {} free.", pool.name, array.name, pool.free());
    let had = stop.remedy.take().map_or_else(String::new, |r| format!("{r} "));
    stop.remedy = Some(format!("{had}{text}"));
}
