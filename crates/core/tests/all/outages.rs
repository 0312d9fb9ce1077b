//! What has failed beneath volumes is said once, with its cause, and only what can be mended is offered to be mended.

use crate::{put, worse};
use zastrugi_core::{
    estate::{Array, Backing, Cause, Controller, Fact, MachineState, Outages, Path, Volume},
    ids::{ArrayId, HostId, MachineId, SiteId, VolumeId},
    rooms::{Proposal, Step, storage},
    testkit::{self, Small, read},
};

const PORTALS: [&str; 2] = ["10.0.9.1:3260", "10.0.9.2:3260"];

/// Three hosts that mount two volumes of one array by two portals.
fn fixture() -> Small {
    let mut small = read(
        "cluster eider\nhost 1 64\nhost 2 64\nhost 3 64
        machine 7 db 8 on 1\nmachine 8 web 8 on 2",
    );
    small.alter(|e| {
        let array = Array {
            controllers: vec![Controller {
                address: "10.0.8.1:8443".into(),
                pin: "p".into(),
                silent: None,
            }],
            user: "admin".into(),
            maker: "Hollin".into(),
            model: "A".into(),
            serial: "1".into(),
            portals: PORTALS.map(str::to_owned).to_vec(),
            ..testkit::array(ArrayId(800), "basalt", SiteId(900))
        };
        e.put(Fact::Array(array.into()));
        for id in [951, 952] {
            let first = Volume::clone(&e.volumes[&VolumeId(951)]);
            e.put(Fact::Volume(
                Volume {
                    id: VolumeId(id),
                    uid: format!("vol-{id}"),
                    name: format!("slab-{id}"),
                    backing: Some(Backing {
                        array: ArrayId(800),
                        lun: id.to_string(),
                        pool: "fast".into(),
                    }),
                    ..first
                }
                .into(),
            ));
        }
    });
    paths(&mut small, |_, _, _| true);
    small
}

/// Lets each path (host, volume, portal) be up or not.
fn paths(small: &mut Small, up: impl Fn(u64, u64, usize) -> bool) {
    for host in 1..=3 {
        small.alter_host(host, |h| {
            for volume in [951, 952] {
                let path = |n: usize| Path {
                    portal: PORTALS[n].into(),
                    uplink: format!("storage-{}", n + 1),
                    up: up(host, volume, n),
                };
                h.mounts.insert(VolumeId(volume), vec![path(0), path(1)]);
            }
        });
    }
}

fn causes(small: &Small) -> Vec<Cause> {
    let all = Outages::of(&small.view.estate).all;
    all.into_iter().map(|o| o.cause).collect()
}

fn mendable(small: &Small) -> usize {
    let estate = &small.view.estate;
    let outages = Outages::of(estate);
    estate
        .volumes
        .values()
        .map(|v| outages.mendable(estate, v).len())
        .sum()
}

fn heal(small: &Small) -> zastrugi_core::rooms::Assessment {
    let volume = VolumeId(951);
    put(
        small,
        &Proposal::Storage(storage::Ask::HealVolume { volume }),
    )
}

#[test]
fn an_array_that_nobody_reaches_is_one_cause_and_offers_nothing_that_cannot_work() {
    let mut small = fixture();
    assert_eq!(causes(&small), vec![]);
    paths(&mut small, |_, _, _| false);
    small.alter(|e| {
        for id in [7, 8] {
            let mut m = (*e.machines[&MachineId(id)]).clone();
            m.state = MachineState::Paused("no path".into());
            e.put(Fact::Machine(m.into()));
        }
    });
    let all = Outages::of(&small.view.estate).all;
    assert_eq!(all.len(), 1, "one line, not one for each volume: {all:?}");
    assert_eq!(all[0].cause, Cause::Array(ArrayId(800)));
    assert_eq!(
        (
            all[0].volumes.len(),
            all[0].hosts.len(),
            all[0].paused.len()
        ),
        (2, 3, 2)
    );
    assert_eq!(mendable(&small), 0);
    let a = heal(&small);
    assert!(a.blocked() && a.steps().is_empty(), "{:?}", worse(&a));
    assert!(worse(&a)[0].contains("nothing that is done here brings them back"));
    assert!(
        a.findings()[0]
            .evidence
            .contains("no host reaches any portal")
    );
}

#[test]
fn a_portal_that_nobody_reaches_is_one_cause() {
    let mut small = fixture();
    paths(&mut small, |_, _, portal| portal == 0);
    assert_eq!(
        causes(&small),
        [Cause::Portal(ArrayId(800), PORTALS[1].into())]
    );
    assert_eq!(mendable(&small), 0);
    assert!(heal(&small).blocked());
    let estate = &small.view.estate;
    let host = &estate.hosts[&HostId(1)];
    assert!(!estate.is_steady(host) && host.accepts_work());
    assert_eq!(host.lost_paths(), (0, 2));
}

/// Else the Field says that all is well while machines on that volume can't go to this host.
#[test]
fn a_host_that_lacks_a_volume_is_not_steady() {
    let mut small = fixture();
    let steady = |small: &Small| {
        let estate = &small.view.estate;
        let host = &estate.hosts[&HostId(1)];
        (estate.is_steady(host), estate.unmounted(host))
    };
    assert_eq!(steady(&small), (true, 0));
    let volume = *small.view.estate.hosts[&HostId(1)]
        .mounts
        .keys()
        .next()
        .unwrap();
    small.alter_host(1, |h| drop(h.mounts.remove(&volume)));
    assert_eq!(steady(&small), (false, 1));
    // One that it isn't meant to have is not missed.
    small.alter(|e| {
        let mut others = Volume::clone(&e.volumes[&volume]);
        others.intended = Some([HostId(2)].into());
        e.put(Fact::Volume(others.into()));
    });
    assert_eq!(steady(&small), (true, 0));
}

#[test]
fn a_host_that_reaches_no_portal_is_the_cause_itself() {
    let mut small = fixture();
    paths(&mut small, |host, _, _| host != 2);
    assert_eq!(causes(&small), [Cause::Cut(HostId(2), ArrayId(800))]);
    assert_eq!(mendable(&small), 0);
    assert_eq!(small.view.estate.hosts[&HostId(2)].lost_paths(), (2, 0));
}

#[test]
fn what_only_one_host_lacks_is_drift_that_can_be_mended_and_is_looked_at_afterwards() {
    let mut small = fixture();
    small.alter_host(3, |h| {
        h.mounts.remove(&VolumeId(951));
    });
    assert_eq!(causes(&small), vec![]);
    assert_eq!(mendable(&small), 1);
    let a = heal(&small);
    assert!(!a.blocked(), "{:?}", worse(&a));
    let last = &a.steps().last().unwrap().step;
    assert!(
        matches!(
            last,
            Step::Storage(storage::Step::CheckPaths {
                host: HostId(3),
                ..
            })
        ),
        "{last:?}"
    );
    // One path of one host, while others reach the same portal: its own.
    let mut small = fixture();
    paths(&mut small, |host, _, portal| (host, portal) != (3, 1));
    assert_eq!(causes(&small), vec![]);
    assert_eq!(mendable(&small), 2, "both volumes");
}

#[test]
fn a_silent_host_says_nothing_about_portals() {
    let mut small = fixture();
    paths(&mut small, |host, _, _| host != 2);
    small.alter_host(2, |h| {
        h.condition = zastrugi_core::estate::Condition::Lost {
            since: zastrugi_core::moment::Moment(0),
            why: "silent".into(),
        };
    });
    assert_eq!(causes(&small), vec![]);
}
