//! Moving disks to another volume: what it takes, what speaks against it, and the machine that goes along.

use crate::{put, worse};
use std::sync::Arc;
use zastrugi_core::road::Work;
use zastrugi_core::rooms::moving;
use zastrugi_core::{
    estate::{Fact, HostNet, NetRole, Network, Uplink, Volume},
    ids::{HostId, MachineId, NetworkId, VolumeId},
    loads::{DiskUse, HostLoad, Loads, MachineLoad, Writes},
    moment::{Moment, Span},
    rooms::moving::{DisksTo, Move},
    rooms::{Proposal, Step},
    testkit::{Small, network, paths, read},
    units::{Bytes, Mhz, Rate},
};

const HOME: VolumeId = VolumeId(951);
const OTHER: VolumeId = VolumeId(777);

/// Two hosts with 10 Gbit/s; machine 7 holds 100 GiB on its disks and writes so many MiB a second, 9 is off.
fn fixture(writes_mib: u64) -> Small {
    let mut small = read(
        "cluster eider careless\nhost 1 512\nhost 2 512
        machine 7 db 64 on 1\nmachine 9 old 16 off",
    );
    let net = Network {
        role: NetRole::Migration,
        uplinks: ["storage-1".to_owned()].into(),
        ..network(NetworkId(50), "migration")
    };
    small.alter(|e| {
        let home = e.volumes[&HOME].clone();
        let other = Volume {
            id: OTHER,
            uid: "vol-777".into(),
            name: "quay".into(),
            ..Volume::clone(&home)
        };
        e.put(Fact::Volume(Arc::new(other)));
        e.put(Fact::Network(Arc::new(net.clone())));
    });
    for id in [1, 2] {
        small.alter_host(id, |h| {
            h.uplinks = ["storage-1", "storage-2"]
                .map(|name| Uplink {
                    name: name.into(),
                    mac: format!("06:00:00:00:0{}:0{id}", name.len()),
                    mbit: 10_000,
                    up: true,
                    switch: "s".into(),
                    port: format!("{name}-{id}"),
                })
                .to_vec();
            h.mounts.insert(OTHER, paths(2));
            let has = HostNet {
                vlan: Some(20),
                mtu: 1500,
                uplinks: ["storage-1".to_owned()].into(),
            };
            h.networks = [("migration".to_owned(), has)].into();
        });
    }
    let load = MachineLoad {
        cpu: Mhz(1000),
        active: Bytes::gib(8),
        writes: Some(Writes {
            dirty: Rate(10 << 20),
            touched: Bytes::gib(8),
            working_set: Bytes::gib(1),
        }),
        disk: Some(DiskUse {
            used: Bytes::gib(100),
            writes: Rate(writes_mib << 20),
        }),
    };
    let mut loads = Loads::default();
    loads.take(
        HostId(1),
        HostLoad {
            at: Moment(1),
            cpu: Mhz(2000),
            active: Bytes::gib(16),
            machines: vec![(MachineId(7), load)],
        },
    );
    small.view.loads = loads.into();
    small
}

fn go(machine: u64, stay: bool) -> Proposal {
    Proposal::Moving(moving::Ask::Move(Move {
        machines: vec![MachineId(machine)],
        to: None,
        disks: Some(DisksTo {
            volume: Some(OTHER),
            stay,
        }),
        slow: false,
        force: false,
        wire: false,
    }))
}

#[test]
fn the_time_of_a_copy_by_hand() {
    // 0.9 × 10 Gbit/s is more than the 1 GB/s of a stream; the machine writes 100 MiB/s meanwhile.
    let said = put(&fixture(100), &go(7, true));
    assert!(!said.blocked(), "{:?}", said.findings());
    let [step] = said.steps() else {
        panic!("{:?}", said.steps())
    };
    let Step::Moving(moving::Step::MoveDisks {
        via,
        from,
        to,
        bytes,
        time,
        ..
    }) = &step.step
    else {
        panic!("{step:?}")
    };
    assert_eq!((*via, *from, *to), (HostId(1), HOME, OTHER));
    assert_eq!(*bytes, Bytes::gib(100));
    let seconds = (100u64 << 30) as f64 / (1e9 - (100u64 << 20) as f64);
    assert_eq!(time.0, zastrugi_core::units::round(seconds * 1000.0));
    let lines = worse(&said);
    let tracked = lines.iter().any(|l| l.contains("copies everything"));
    assert!(
        tracked,
        "the next replication is full, and it is said: {lines:?}"
    );
}

#[test]
fn who_writes_faster_than_the_copy_never_gets_there() {
    let said = put(&fixture(1200), &go(7, true));
    let stop = said.at_field("volume").unwrap();
    assert!(stop.text.contains("never gets there"), "{}", stop.text);
}

#[test]
fn the_machine_goes_along_after_its_disks() {
    let said = put(&fixture(10), &go(7, false));
    assert!(!said.blocked(), "{:?}", said.findings());
    let steps: Vec<_> = said.steps().iter().map(|s| s.step.group()).collect();
    assert_eq!(
        steps,
        ["copy its disks, go on from there", "move while it runs"]
    );
    assert_eq!(
        said.steps()[1].after,
        [0],
        "its new host reads them where they are then"
    );
    assert!(said.time() > Span::secs(100));
}

#[test]
fn what_is_off_moves_its_disks_only() {
    let said = put(&fixture(10), &go(9, true));
    assert!(!said.blocked(), "{:?}", said.findings());
    let unmeasured = worse(&said)
        .iter()
        .any(|l| l.contains("as if they were full"));
    assert!(unmeasured, "{:?}", worse(&said));
    // No tick is asked for: on no host, it can't go to another.
    let said = put(&fixture(10), &go(9, false));
    assert!(
        !said.blocked() && said.steps().len() == 1,
        "{:?}",
        said.findings()
    );
    // On their way together, who is on goes all the way and who is off with its disks.
    let Proposal::Moving(moving::Ask::Move(mut both)) = go(7, false) else {
        panic!()
    };
    both.machines.push(MachineId(9));
    let said = put(
        &fixture(10),
        &Proposal::Moving(moving::Ask::Move(both.clone())),
    );
    assert!(!said.blocked(), "{:?}", said.findings());
    assert_eq!(said.steps().len(), 3);
    both.disks = None;
    let said = put(
        &fixture(10),
        &Proposal::Moving(moving::Ask::Move(both.clone())),
    );
    let stop = said.at_field("volume").unwrap();
    assert!(stop.text.contains("only its disks can go"), "{}", stop.text);
    // Who ticks that only the disks go and chooses no volume moves nothing anywhere.
    both.disks = Some(DisksTo {
        volume: None,
        stay: true,
    });
    let said = put(&fixture(10), &Proposal::Moving(moving::Ask::Move(both)));
    assert!(
        said.at_field("volume")
            .unwrap()
            .text
            .contains("Choose the volume")
    );
    assert!(said.steps().is_empty());
}

#[test]
fn a_volume_without_room_or_out_of_reach_is_refused() {
    let mut small = fixture(10);
    small.alter(|e| {
        let mut tight = Volume::clone(&e.volumes[&OTHER]);
        tight.used = tight.capacity.less(Bytes::gib(90));
        e.put(Fact::Volume(Arc::new(tight)));
    });
    let said = put(&small, &go(7, true));
    assert!(
        said.at_field("volume")
            .unwrap()
            .text
            .contains("is short of")
    );
    let mut small = fixture(10);
    small.alter_host(1, |h| drop(h.mounts.remove(&OTHER)));
    let said = put(&small, &go(7, true));
    let stop = said.at_field("volume").unwrap();
    assert!(stop.text.contains("does not reach both"), "{}", stop.text);
}
