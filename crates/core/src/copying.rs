//! How fast a host copies what lies on volumes.

use crate::{estate::Host, ids::VolumeId, migration::bandwidth, units::Rate};

/// Read on the way in, written on the way out: an uplink carries both at once.
pub fn rate(via: &Host, from: VolumeId, to: VolumeId) -> Rate {
    let paths = |volume: VolumeId| {
        via.mounts
            .get(&volume)
            .into_iter()
            .flatten()
            .filter(|p| p.up)
    };
    // Ports that the host doesn't tell of are taken to be as fast as its fastest uplink.
    let known = |uplink: &str| via.uplinks.iter().find(|u| u.name == uplink);
    let best = via.uplinks.iter().map(|u| u.mbit).max().unwrap_or(0);
    let speed = |uplink: &str| known(uplink).map_or(best, |u| u.mbit);
    let fastest = |volume: VolumeId| paths(volume).map(|p| speed(&p.uplink)).max().unwrap_or(0);
    bandwidth(fastest(from), fastest(to), 1)
}
