//! Volumes of the hosts' own disks: what their sheets say, and what stands against hosts that go.

use crate::{observing::report, put, worse};
use std::{collections::BTreeSet, sync::Arc};
use zastrugi_core::{
    estate::{DiskState, Fact, Host, LocalDisk, PoolHealth, Pooled, Share, Volume},
    evidence::SeenPool,
    ids::{ClusterId, HostId, VolumeId},
    moment::{Moment, Span},
    observe::compare,
    rooms::{
        Event, Proposal, Step, joining,
        leaving::{self, Leave},
        maintenance::{self, Afterwards, Empty},
        storage::{self, ConnectVolume, VolumeSource},
    },
    testkit::{Small, read},
    units::Bytes,
    view::View,
};

const FOUR: &str =
    "cluster eider careless\nhost 1 256\nhost 2 256\nhost 3 256\nhost 4 256\nmachine 7 db 64 on 1";
const SLAB: VolumeId = VolumeId(951);

fn disk(name: &str, state: DiskState) -> LocalDisk {
    LocalDisk {
        name: name.into(),
        size: Bytes(4_000_000_000_000),
        state,
    }
}

fn on_host(small: &mut Small, id: u64, change: impl FnOnce(&mut Host)) {
    small.alter(|estate| {
        let mut host = Host::clone(&estate.hosts[&HostId(id)]);
        host.seen = (1, 1);
        change(&mut host);
        estate.put(Fact::Host(Arc::new(host)));
    });
}

/// Four hosts with two free disks each; racks as given.
fn fixture(racks: [&str; 4]) -> Small {
    let mut small = read(FOUR);
    for (id, rack) in (1..).zip(racks) {
        on_host(&mut small, id, |host| {
            host.disks = vec![
                disk("nvme1", DiskState::Free),
                disk("nvme2", DiskState::Free),
            ];
            if !rack.is_empty() {
                host.labels.insert("rack".into(), rack.into());
            }
        });
    }
    small
}

fn own(copies: u8) -> Proposal {
    Proposal::Storage(storage::Ask::ConnectVolume(ConnectVolume {
        array: None,
        source: VolumeSource::Pooled {
            copies,
            wait: Span::mins(10),
        },
        name: "own".into(),
        cluster: Some(ClusterId(901)),
        hosts: None,
        typed: "".into(),
    }))
}

fn domains(small: &Small, copies: u8) -> Vec<String> {
    let said = put(small, &own(copies));
    assert!(!said.blocked(), "{:#?}", worse(&said));
    let lent = said.steps().iter().filter_map(|p| match &p.step {
        Step::Storage(storage::Step::Lend { domain, .. }) => Some(domain.clone()),
        _ => None,
    });
    lent.collect()
}

/// If this fails, both copies of something lie in one rack although there are racks enough.
#[test]
fn copies_lie_in_different_racks_where_there_are_enough() {
    let small = fixture(["a", "a", "b", "b"]);
    assert_eq!(domains(&small, 2), ["rack a", "rack a", "rack b", "rack b"]);
    let names: BTreeSet<String> = domains(&small, 3).into_iter().collect();
    assert_eq!(
        names.len(),
        4,
        "two racks are too few for three copies: each host is one of its own"
    );
    assert_eq!(
        domains(&fixture(["a", "b", "c", ""]), 2)
            .into_iter()
            .collect::<BTreeSet<_>>()
            .len(),
        4,
        "one rack is not known"
    );
}

/// If this fails, the sheet promises other room than the rule gives, or takes disks on which something is.
#[test]
fn the_sheet_reckons_with_free_disks_and_says_which_are_left_alone() {
    let mut small = fixture(["", "", "", ""]);
    on_host(&mut small, 4, |h| {
        h.disks[0].state = DiskState::Holds("ext4 “scratch”".into())
    });
    let said = put(&small, &own(2));
    // (8 + 8 + 8 + 4 − 8) / 2 × 0.97 TB
    let room = Bytes(20_000_000_000_000 / 2 / 100 * 97);
    assert!(
        said.findings()
            .iter()
            .any(|f| f.text.contains(&format!("{room} can be used"))),
        "{:#?}",
        said.findings()
    );
    let left = worse(&said).into_iter().find(|f| f.contains("left alone"));
    assert!(left.is_some(), "{:#?}", worse(&said));
}

/// If this fails, a run begins that can't keep the copies that it was asked for.
#[test]
fn too_few_domains_a_strange_wait_and_copies_are_refused_beside_their_fields() {
    let mut small = fixture(["", "", "", ""]);
    for id in 2..=4 {
        on_host(&mut small, id, |h| h.disks.clear());
    }
    let field = |small: &Small, ask: &Proposal| {
        let said = put(small, ask);
        assert!(said.blocked());
        let stops = said.findings().iter().filter(|f| f.stops());
        stops.filter_map(|f| f.field.clone()).collect::<Vec<_>>()
    };
    assert_eq!(field(&small, &own(2)), ["copies"]);
    let small = fixture(["", "", "", ""]);
    assert_eq!(field(&small, &own(4)), ["copies"]);
    let mut never = own(2);
    if let Proposal::Storage(storage::Ask::ConnectVolume(ask)) = &mut never {
        ask.source = VolumeSource::Pooled {
            copies: 2,
            wait: Span(0),
        };
    }
    assert_eq!(field(&small, &never), ["wait"]);
}

/// Its volume lies on the hosts' own disks: 100 GiB at each.
fn lying_on(small: &mut Small, change: impl FnOnce(&mut Pooled)) {
    small.alter(|estate| {
        let mut slab = Volume::clone(&estate.volumes[&SLAB]);
        let share = |id: u64| Share {
            domain: format!("h{id}"),
            raw: Bytes(4_000_000_000_000),
            held: Bytes::gib(100),
            ..Share::default()
        };
        let mut pooled = Pooled::new(2, Pooled::WAIT);
        pooled.members = (1..=4).map(|id| (HostId(id), share(id))).collect();
        change(&mut pooled);
        slab.used = Bytes::gib(200);
        slab.pooled = Some(Box::new(pooled));
        estate.put(Fact::Volume(Arc::new(slab)));
    });
}

fn empty(hosts: &[u64]) -> Proposal {
    Proposal::Maintenance(maintenance::Ask::Empty(Empty {
        hosts: hosts.iter().map(|h| HostId(*h)).collect(),
        reason: "fans".into(),
        lasts: None,
        slow: false,
        force: false,
        wire: false,
        stop: true,
        then: Afterwards::StaysOn,
    }))
}

fn stops(small: &Small, ask: &Proposal) -> Vec<String> {
    let said = put(small, ask);
    let stops = said.findings().iter().filter(|f| f.stops());
    stops
        .map(|f| f.text.clone())
        .filter(|t| t.contains("slab"))
        .collect()
}

/// If this fails, somebody takes a host down while the others lack copies, or two hosts with both copies of something.
#[test]
fn nobody_is_emptied_while_copies_are_missing() {
    let mut small = fixture(["", "", "", ""]);
    lying_on(&mut small, |_| {});
    assert!(stops(&small, &empty(&[2])).is_empty());
    let minded = worse(&put(&small, &empty(&[2])));
    assert!(
        minded.iter().any(|t| t.contains("one copy less")),
        "{minded:#?}"
    );
    assert!(stops(&small, &empty(&[2, 3]))[0].contains("no copy left"));
    lying_on(&mut small, |p| {
        p.health = PoolHealth {
            lacking: Bytes::gib(8),
            moving: Bytes::gib(8),
            ..PoolHealth::default()
        };
    });
    assert!(stops(&small, &empty(&[2]))[0].contains("not whole"));
}

/// If this fails, a host leaves with the only copy of something, or a new one joins and lends nothing.
#[test]
fn who_leaves_gives_back_after_it_unmounted_and_who_joins_lends_first() {
    let mut small = fixture(["", "", "", ""]);
    lying_on(&mut small, |_| {});
    let leave = |hosts: &[u64]| {
        Proposal::Leaving(leaving::Ask::Leave(Leave {
            hosts: hosts.iter().map(|h| HostId(*h)).collect(),
            slow: false,
            force: false,
            wire: false,
            stop: false,
        }))
    };
    let said = put(&small, &leave(&[2]));
    assert!(!said.blocked(), "{:#?}", worse(&said));
    let at = |is: &dyn Fn(&storage::Step) -> bool| {
        said.steps()
            .iter()
            .position(|p| matches!(&p.step, Step::Leaving(leaving::Step::Storage(s)) if is(s)))
    };
    let unmounted = at(&|s| matches!(s, storage::Step::Unmount { .. })).unwrap();
    let back = at(&|s| matches!(s, storage::Step::GiveBack { .. })).unwrap();
    assert_eq!(said.steps()[back].after, [unmounted]);
    let out = said.steps().iter().position(
        |p| matches!(&p.step, Step::Leaving(leaving::Step::Host(_)) if p.after.contains(&back)),
    );
    assert!(out.is_some(), "it is handed back afterwards");
    lying_on(&mut small, |p| p.members.retain(|h, _| h.0 <= 2));
    assert!(stops(&small, &leave(&[2]))[0].contains("1 would be left"));

    let mut small = fixture(["", "", "", ""]);
    lying_on(&mut small, |p| p.members.retain(|h, _| h.0 <= 3));
    small.alter(|estate| {
        let mut host = Host::clone(&estate.hosts[&HostId(4)]);
        host.cluster = None;
        estate.put(Fact::Host(Arc::new(host)));
        let mut cluster = zastrugi_core::estate::Cluster::clone(&estate.clusters[&ClusterId(901)]);
        cluster.hosts.remove(&HostId(4));
        estate.put(Fact::Cluster(Arc::new(cluster)));
    });
    let join = Proposal::Joining(joining::Ask::Join {
        cluster: Some(ClusterId(901)),
        hosts: vec![HostId(4)],
    });
    let said = put(&small, &join);
    let lends = said
        .steps()
        .iter()
        .position(|p| {
            matches!(
                &p.step,
                Step::Joining(joining::Step::Storage(storage::Step::Lend { .. }))
            )
        })
        .unwrap();
    let mounts = said
        .steps()
        .iter()
        .find(|p| {
            matches!(
                &p.step,
                Step::Joining(joining::Step::Storage(storage::Step::Mount { .. }))
            )
        })
        .unwrap();
    assert_eq!(mounts.after, [lends]);
}

/// If this fails, one goes on without a host that is there, or without one that has the only copy.
#[test]
fn nobody_is_left_out_who_is_there_or_has_the_only_copy() {
    let mut small = fixture(["", "", "", ""]);
    let go_on = Proposal::Storage(storage::Ask::GoOnWithout {
        volume: SLAB,
        host: HostId(2),
    });
    lying_on(&mut small, |_| {});
    assert!(
        put(&small, &go_on).findings()[0]
            .text
            .contains("can be read")
    );
    let away = |p: &mut Pooled| p.members.get_mut(&HostId(2)).unwrap().away = true;
    lying_on(&mut small, away);
    let said = put(&small, &go_on);
    assert!(
        !said.blocked() && said.steps().len() == 1,
        "{:#?}",
        worse(&said)
    );
    lying_on(&mut small, |p| {
        away(p);
        p.health.lost = Bytes::gib(1);
    });
    assert!(put(&small, &go_on).blocked());
}

/// If this fails, a report that was late puts an older state of the copies over a newer one, or a change is told twice or never.
#[test]
fn what_was_said_earlier_changes_nothing() {
    let mut small = fixture(["", "", "", ""]);
    lying_on(&mut small, |p| p.health.seq = 9);
    let estate = (*small.view.estate).clone();
    let held = estate.volumes[&SLAB].pooled.clone().unwrap();
    let seen = |seq: u64, lacking: u64| {
        let mut report = report(&estate, 5, &[]);
        report.volumes[0].pool = Some(SeenPool {
            copies: 2,
            wait: held.wait,
            members: held
                .members
                .iter()
                .map(|(h, s)| (estate.hosts[h].hardware.serial.clone(), s.clone()))
                .collect(),
            health: PoolHealth {
                seq,
                lacking: Bytes::gib(lacking),
                ..PoolHealth::default()
            },
        });
        let events = compare(&View::of(estate.clone()), HostId(1), &report, Moment(9)).into_iter();
        let turns = events.filter_map(|e| match e {
            Event::Storage(storage::Event::PoolSeen { turn, .. }) => Some(turn),
            _ => None,
        });
        turns.collect::<Vec<_>>()
    };
    assert_eq!(seen(8, 4), [], "older");
    assert_eq!(seen(12, 0), [], "newer, and says the same");
    assert_eq!(seen(10, 4), [Some(storage::PoolTurn::Lacks)]);
}
