//! How long it takes to tell what has failed beneath volumes at 1,000 hosts with 20 volumes by 4 paths each: while all is
//! well, when one array is lost, and when every tenth host is cut off.
#![expect(
    clippy::print_stdout,
    clippy::disallowed_methods,
    reason = "a benchmark reads the clock and prints"
)]

#[path = "shared/mod.rs"]
mod shared;

use shared::measure;
use zastrugi_core::{
    estate::{Array, Backing, Estate, Fact, Host, Outages, Path, Volume},
    ids::{ArrayId, SiteId, VolumeId},
    testkit::{self, large, read},
};

const ARRAYS: u64 = 20;
const VOLUMES: u64 = 20;

fn array(n: u64) -> Array {
    testkit::array(ArrayId(900_000 + n), &format!("array-{n}"), SiteId(900))
}

/// Each host mounts a volume of every array by four portals of it; `up` by host and array.
fn estate(up: impl Fn(u64, u64) -> bool) -> Estate {
    let mut estate = (*read(&large(20_000, 8)).view.estate).clone();
    let first = estate.volumes.values().next().map(|v| Volume::clone(v));
    let Some(first) = first else { return estate };
    for n in 0..ARRAYS {
        estate.put(Fact::Array(array(n).into()));
    }
    for n in 0..VOLUMES {
        let backing = Backing {
            array: ArrayId(900_000 + n % ARRAYS),
            lun: n.to_string(),
            pool: "fast".into(),
        };
        let volume = Volume {
            id: VolumeId(950_000 + n),
            uid: format!("v{n}"),
            name: format!("v{n}"),
            backing: Some(backing),
            ..first.clone()
        };
        estate.put(Fact::Volume(volume.into()));
    }
    let hosts: Vec<Host> = estate.hosts.values().map(|h| Host::clone(h)).collect();
    for mut host in hosts {
        for n in 0..VOLUMES {
            let path = |p: u64| Path {
                portal: format!("10.{n}.9.{p}:3260"),
                uplink: format!("storage-{p}"),
                up: up(host.id.0, n % ARRAYS),
            };
            let paths = (1..=4).map(path).collect();
            host.mounts.insert(VolumeId(950_000 + n), paths);
        }
        estate.put(Fact::Host(host.into()));
    }
    estate
}

fn main() {
    for (what, estate) in [
        ("all is well", estate(|_, _| true)),
        ("one array is lost", estate(|_, array| array != 3)),
        (
            "every tenth host is cut off from all arrays",
            estate(|host, _| host % 10 != 0),
        ),
    ] {
        let causes = Outages::of(&estate).all.len();
        measure(&format!("{what}: {causes} causes"), 20, || {
            std::hint::black_box(Outages::of(&estate));
        });
    }
}
