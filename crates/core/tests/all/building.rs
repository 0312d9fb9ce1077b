//! Building a cluster from bare hosts: what is wrong with a sheet is said at its field, before anything is started; and each step
//! waits for what its own host needs, and for no other host.

use crate::bare::{build, controller, told};
use std::{collections::BTreeSet, sync::Arc};
use zastrugi_core::{
    endpoint::Password,
    estate::{DiskState, Fact, LocalDisk},
    evidence::{Answer, Beneath, Probe},
    finding::Severity,
    moment::{Moment, Span},
    permits::{Permits, Role},
    pooled::reckoned,
    rooms::{
        Assessment, Proposal, Step, assess,
        building::{self, Ask, Build},
        clusters, hosts, installing,
        installing::BareHost,
        networks,
        storage::{ConnectVolume, VolumeSource},
    },
    testkit::Small,
    units::Bytes,
};

fn assessed(small: &Small, build: &Build, now: Moment) -> Assessment {
    let ask = Proposal::Building(Ask::Build(Box::new(build.clone())));
    assess(&small.view, &Permits::of(Role::Admin), &ask, now)
}

/// (severity, field, words)
fn found(small: &Small, build: &Build) -> Vec<(Severity, String, String)> {
    let said = assessed(small, build, small.now);
    let all = said.findings().iter();
    all.map(|f| {
        (
            f.severity,
            f.field.clone().unwrap_or_default(),
            f.text.clone(),
        )
    })
    .collect()
}

fn says(
    build: &Build,
    change: impl Fn(usize, &mut Beneath),
    severity: Severity,
    field: &str,
    words: &str,
) {
    let all = found(&told(build, change), build);
    let hit = all
        .iter()
        .any(|(s, f, text)| *s == severity && f == field && text.contains(words));
    assert!(hit, "{severity:?} at {field}: {words}\n{all:#?}");
}

/// If this fails, a sheet that is right can't be run.
#[test]
fn a_sheet_that_is_right_has_no_stop() {
    let build = build(3);
    let all = found(&told(&build, |_, _| {}), &build);
    assert!(all.iter().all(|(s, ..)| *s != Severity::Stop), "{all:#?}");
}

/// If this fails, something that a controller could have told is found an hour later, on one host of four.
#[test]
fn what_controllers_say_is_checked_beside_the_host_that_it_is_of() {
    use Severity::{Mind, Stop};
    let b = build(2);
    let second = controller(2);
    let at = |what: &str| format!("{what}:{second}");
    let on = |change: fn(&mut Beneath)| {
        move |n: usize, found: &mut Beneath| {
            if n == 2 {
                change(found);
            }
        }
    };
    says(
        &b,
        on(|f| f.memory = Bytes::gib(8)),
        Stop,
        &at("host"),
        "tern-2 is too small",
    );
    says(&b, on(|f| f.cores = 2), Stop, &at("host"), "too small");
    says(
        &b,
        on(|f| f.slots = 1),
        Stop,
        &at("host"),
        "1 media over the network; 2 are needed",
    );
    says(
        &b,
        on(|f| f.ports.iter_mut().for_each(|p| p.up = false)),
        Stop,
        &at("host"),
        "No network port of tern-2 has a link",
    );
    says(
        &b,
        on(|f| f.ports[0].up = false),
        Mind,
        &at("host"),
        "have no link: uplink-1",
    );
    says(
        &b,
        on(|f| f.on = true),
        Mind,
        &at("host"),
        "whatever runs on it ends",
    );
    says(
        &b,
        on(|f| f.disks = vec!["old pool".into()]),
        Stop,
        &at("host"),
        "not empty: old pool",
    );
    says(
        &b,
        on(|f| f.serial = "SN-1".into()),
        Stop,
        &at("host"),
        "Two controllers show the serial SN-1",
    );
    says(
        &b,
        on(|f| f.model = "R1".into()),
        Mind,
        "hosts",
        "different models",
    );
    let mut erased = build(2);
    erased.install.hosts[1].overwrite = true;
    says(
        &erased,
        on(|f| f.disks = vec!["old pool".into()]),
        Mind,
        &at("host"),
        "is erased: old pool",
    );
}

/// (what is changed in a sheet that is right, what is said of it, at which field, in which words)
type Case = (fn(&mut Build), Severity, &'static str, &'static str);

fn row(build: &mut Build) -> &mut BareHost {
    &mut build.install.hosts[0]
}

const NAME: &str = "name:10.1.101.1:8443";
const NAME_2: &str = "name:10.1.101.2:8443";
const ADDRESS: &str = "address:10.1.101.1:8443";
const ADDRESS_2: &str = "address:10.1.101.2:8443";

const CASES: [Case; 22] = [
    (
        |b| row(b).name = "Tern".into(),
        Severity::Stop,
        NAME,
        "lower case",
    ),
    (
        |b| row(b).name = "tern-2".into(),
        Severity::Stop,
        NAME_2,
        "Two hosts shall be named tern-2",
    ),
    (
        |b| row(b).name = "h1".into(),
        Severity::Stop,
        NAME,
        "There is a host h1 already",
    ),
    (
        |b| row(b).address = "10.1.3.5".into(),
        Severity::Stop,
        ADDRESS,
        "is not in 10.1.2.0/24",
    ),
    (
        |b| row(b).address = "10.1.2.255".into(),
        Severity::Stop,
        ADDRESS,
        "broadcast",
    ),
    (
        |b| row(b).address = "10.1.2.1".into(),
        Severity::Stop,
        ADDRESS,
        "is the gateway",
    ),
    (
        |b| row(b).address = "ten".into(),
        Severity::Stop,
        ADDRESS,
        "is no address",
    ),
    (
        |b| row(b).address = "".into(),
        Severity::Stop,
        ADDRESS,
        "missing",
    ),
    (
        |b| row(b).address = "10.1.2.62".into(),
        Severity::Stop,
        ADDRESS_2,
        "given twice",
    ),
    (
        |b| b.install.image = "korsnes.iso".into(),
        Severity::Stop,
        "image",
        "hardware of Korsnes",
    ),
    (
        |b| b.install.image = "".into(),
        Severity::Stop,
        "image",
        "Choose what",
    ),
    (
        |b| b.install.password = Password::Missing,
        Severity::Stop,
        "password",
        "look at the hosts",
    ),
    (
        |b| b.install.user = "".into(),
        Severity::Stop,
        "user",
        "account",
    ),
    (
        |b| b.install.gateway = "10.9.9.9".into(),
        Severity::Stop,
        "gateway:0",
        "is not in",
    ),
    (
        |b| b.name = "eider".into(),
        Severity::Stop,
        "name",
        "already",
    ),
    (
        |b| b.level = None,
        Severity::Stop,
        "level",
        "Choose the CPU level",
    ),
    (
        |b| drop(b.networks.remove(0)),
        Severity::Stop,
        "networks",
        "No network is for management",
    ),
    (
        |b| b.networks[1].vlan = Some(10),
        Severity::Mind,
        "vlan:1",
        "is management here already",
    ),
    (
        |b| b.networks[1].vlan = Some(5000),
        Severity::Stop,
        "vlan:1",
        "is no VLAN",
    ),
    (
        |b| b.networks[1].uplinks = ["uplink-9".into()].into(),
        Severity::Stop,
        "uplinks:1",
        "has no uplink uplink-9",
    ),
    (
        |b| b.install.vlan = Some(11),
        Severity::Stop,
        "vlan:0",
        "the hosts are installed with VLAN 11",
    ),
    (
        |_| {},
        Severity::Unchecked,
        "",
        "Where the cables of the hosts lead",
    ),
];

/// If this fails, a wrong value is told at another field, or not before the run.
#[test]
fn what_is_typed_is_checked_at_its_field() {
    for (change, severity, field, words) in CASES {
        let mut b = build(2);
        change(&mut b);
        says(&b, |_, _| {}, severity, field, words);
    }
}

/// If this fails, somebody who has the address of a new host is found when two have it.
#[test]
fn an_address_that_somebody_has_is_refused_and_one_that_nobody_asked_for_is_unchecked() {
    let b = build(1);
    let mut small = told(&b, |_, _| {});
    let mut book = (*small.view.evidence).clone();
    let at = Probe::Greeting("10.1.2.61:7443".into());
    book.answers.remove(&at);
    small.view.evidence = book.clone().into();
    let all = found(&small, &b);
    assert!(
        all.iter()
            .any(|(s, _, t)| *s == Severity::Unchecked && t.contains("Nobody asked yet")),
        "{all:#?}"
    );
}

/// If this fails, one host that is late holds up the others, or a step runs before what it needs is there.
#[test]
fn each_step_waits_for_its_own_host_and_no_other() {
    let b = build(3);
    let small = told(&b, |_, _| {});
    let said = assessed(&small, &b, small.now);
    assert!(!said.blocked(), "{:?}", said.findings());
    let steps = said.steps();
    let host_of = |step: &Step| match step {
        Step::Building(building::Step::Bare(step)) => Some(step.host()),
        Step::Building(building::Step::Cluster(
            clusters::Step::Verify { host, .. } | clusters::Step::Join { host, .. },
        )) => Some(*host),
        Step::Building(building::Step::Network(networks::Step::Set { host, .. })) => Some(*host),
        _ => None,
    };
    let mut joins = 0;
    for (n, planned) in steps.iter().enumerate() {
        let Some(host) = host_of(&planned.step) else {
            continue;
        };
        // All that it waits for, however far back.
        let mut before = BTreeSet::new();
        let mut next = planned.after.clone();
        while let Some(at) = next.pop() {
            if before.insert(at) {
                next.extend(&steps[at].after);
            }
        }
        let others: Vec<_> = before
            .iter()
            .filter_map(|at| host_of(&steps[*at].step))
            .filter(|h| *h != host)
            .collect();
        assert!(
            others.is_empty(),
            "step {n} of {host:?} waits for {others:?}"
        );
        let taken = |at: &usize| matches!(&steps[*at].step, Step::Building(building::Step::Bare(installing::Step::TakeOver { host: h })) if h == &host);
        if !matches!(planned.step, Step::Building(building::Step::Bare(_))) {
            assert!(
                before.iter().any(taken),
                "step {n} comes before its host is ours"
            );
            joins += 1;
        }
    }
    assert_eq!(
        joins,
        3 * (1 + 1 + 2),
        "verify, join and two networks for each"
    );
}

/// If this fails, a new host of a cluster lacks what the others have, joins before it is there, or brings what nobody asked for.
#[test]
fn a_cluster_is_expanded_by_hosts_that_get_what_the_others_have() {
    let b = Build {
        into: Some(zastrugi_core::ids::ClusterId(901)),
        networks: vec![],
        ..build(2)
    };
    let small = told(&b, |_, _| {});
    let said = assessed(&small, &b, small.now);
    // The fixture's volume is on no array of ours, and its hosts are at another site.
    let stops: Vec<_> = said.findings().iter().filter(|f| f.stops()).collect();
    let site = |f: &&&zastrugi_core::finding::Finding| !f.text.contains("at another site");
    assert_eq!(stops.iter().filter(site).count(), 0, "{stops:#?}");
    let b = Build {
        install: installing::Install {
            site: "Quayside".into(),
            ..b.install.clone()
        },
        ..b
    };
    let said = assessed(&small, &b, small.now);
    assert!(!said.blocked(), "{:#?}", said.findings());
    assert_eq!(said.title(), "Expand eider by 2 hosts");
    let joins = said.steps().iter().enumerate().filter(|(_, p)| {
        let join = |s: &clusters::Step| matches!(s, clusters::Step::Join { cluster, .. } if cluster.0 == 901);
        matches!(&p.step, Step::Building(building::Step::Cluster(s)) if join(s))
    });
    let mut count = 0;
    for (n, _) in joins {
        let mut before = BTreeSet::new();
        let mut next = said.steps()[n].after.clone();
        while let Some(at) = next.pop() {
            if before.insert(at) {
                next.extend(&said.steps()[at].after);
            }
        }
        let taken = before.iter().filter(|at| {
            let step = &said.steps()[**at].step;
            matches!(
                step,
                Step::Building(building::Step::Bare(installing::Step::TakeOver { .. }))
            )
        });
        assert_eq!(taken.count(), 1, "each waits for itself alone");
        count += 1;
    }
    assert_eq!(count, 2);
    let mounts = said.steps().iter().filter(|p| {
        let mount = |s: &zastrugi_core::rooms::storage::Step| {
            matches!(s, zastrugi_core::rooms::storage::Step::Mount { .. })
        };
        matches!(&p.step, Step::Building(building::Step::Storage(s)) if mount(s))
    });
    assert_eq!(mounts.count(), 2, "the cluster's volume");
    let gone = Build {
        into: Some(zastrugi_core::ids::ClusterId(999)),
        ..b
    };
    assert!(assessed(&small, &gone, small.now).blocked());
}

/// If this fails, a build that is given up switches off a host on which something of somebody else's runs.
#[test]
fn it_is_kept_which_hosts_were_on_when_they_were_found() {
    let b = build(2);
    let mut small = told(&b, |n, beneath| beneath.on = n == 2);
    let said = assessed(&small, &b, small.now);
    small.begin(said.accept().unwrap());
    let on = |name: &str| {
        let host = small.view.estate.host_named(name).unwrap();
        host.installing.as_ref().unwrap().was_on
    };
    assert!(!on("tern-1") && on("tern-2"));
}

/// If this fails, a host is switched off while it is still being built, or under a keeper; or its fencing was never tried.
#[test]
fn fencing_is_tried_when_nothing_else_is_left_to_do() {
    let mut build = build(3);
    let plain = told(&build, |_, _| {});
    let without = assessed(&plain, &build, plain.now).steps().len();
    build.fencing = true;
    let said = assessed(&plain, &build, plain.now);
    assert!(!said.blocked());
    assert_eq!(
        said.steps().len(),
        without + 9,
        "off, on, awaited, for each"
    );
    let kind = |step: &Step| match step {
        Step::Building(building::Step::Host(step)) => Some(step.clone()),
        _ => None,
    };
    let before: BTreeSet<usize> = (0..without).collect();
    for (n, planned) in said.steps().iter().enumerate() {
        match kind(&planned.step) {
            Some(hosts::Step::TestOff { .. }) => {
                assert!(
                    planned
                        .after
                        .iter()
                        .copied()
                        .collect::<BTreeSet<_>>()
                        .is_superset(&before)
                );
            }
            Some(other) => assert_eq!(
                planned.after,
                [n - 1],
                "{other:?} follows its own host alone"
            ),
            None => assert!(n < without),
        }
    }
}

/// If this fails, hosts are given names that are somebody else's, and whoever builds learns it when all of them are installed.
#[test]
fn names_that_somebody_else_has_are_said_in_their_rows() {
    let mut build = build(4);
    let mut small = told(&build, |_, _| {});
    let cluster = *small.view.estate.clusters.keys().next().unwrap();
    small.alter(|e| {
        let mut named = (*e.clusters[&cluster]).clone();
        named.dns = Some(Box::new(crate::naming::dns()));
        e.put(Fact::Cluster(named.into()));
    });
    build.names = Some(cluster);
    let server = "10.0.0.53:53".to_owned();
    let mut book = (*small.view.evidence).clone();
    let zone = Probe::Zone {
        server: server.clone(),
        zone: "quay.example".into(),
    };
    book.put(zone, Answer::Zone { serial: Some(1) }, small.now);
    let answers: [(&[&str], &[&str]); 3] = [
        (&[], &[]),
        (&["10.1.2.62", "10.9.9.9"], &["TERN-2.quay.example"]),
        (&["10.1.2.63"], &["printer.quay.example"]),
    ];
    for (n, (forward, back)) in answers.iter().enumerate() {
        let probe = Probe::Named {
            server: server.clone(),
            name: format!("tern-{}.quay.example", n + 1),
            address: format!("10.1.2.{}", 61 + n).parse().unwrap(),
        };
        let answer = Answer::Named {
            forward: forward.iter().map(|a| a.parse().unwrap()).collect(),
            back: back.iter().map(|n| (*n).to_owned()).collect(),
        };
        book.put(probe, answer, small.now);
    }
    small.view.evidence = Arc::new(book);
    let all = found(&small, &build);
    let says = |severity: Severity, field: &str, words: &str| {
        let hit = all
            .iter()
            .any(|(s, f, text)| *s == severity && f == field && text == words);
        assert!(hit, "{severity:?} at {field}: {words}\n{all:#?}");
    };
    says(
        Severity::Stop,
        &format!("name:{}", controller(2)),
        "tern-2.quay.example leads to 10.9.9.9 already, entered by somebody else.",
    );
    says(
        Severity::Mind,
        &format!("address:{}", controller(3)),
        "10.1.2.63 leads back to printer.quay.example already; that stays as it is.",
    );
    says(
        Severity::Unchecked,
        "names",
        "Nobody asked yet who has 1 name of hosts in quay.example.",
    );
    says(
        Severity::Clear,
        "",
        "1 name of hosts in quay.example can be had, forward and back.",
    );
}

/// If this fails, room is promised on disks that are dead, or on the one that a host starts from; or nothing is said where nobody
/// knows.
#[test]
fn what_hosts_will_lend_is_foretold_by_their_controllers() {
    let mut b = build(3);
    b.volume = Some(ConnectVolume {
        array: None,
        source: VolumeSource::Pooled {
            copies: 2,
            wait: Span::mins(10),
        },
        name: "own".into(),
        cluster: None,
        hosts: None,
        typed: "".into(),
    });
    let own = |gb: u64, state: DiskState| LocalDisk {
        name: format!("{gb}"),
        size: Bytes(gb * 1_000_000_000),
        state,
    };
    let drives = |n: usize, found: &mut Beneath| {
        let last = match n {
            3 => DiskState::Dead,
            _ => DiskState::Free,
        };
        // 16 GB are too few to be installed on.
        found.drives = vec![
            own(3840, DiskState::Free),
            own(16, DiskState::Dead),
            own(240, DiskState::Free),
            own(3840, last),
        ];
    };
    let all = found(&told(&b, drives), &b);
    let foretold = reckoned(&[7680, 7680, 3840].map(|gb| Bytes(gb * 1_000_000_000)), 2);
    let is = |severity, text: &str| {
        all.iter()
            .any(|(s, _, t)| *s == severity && t.starts_with(text))
    };
    assert!(is(Severity::Clear, &foretold), "{all:#?}");
    assert!(
        is(
            Severity::Unchecked,
            "What tern-1, tern-2, tern-3 will lend is reckoned from what their controllers say"
        ),
        "{all:#?}"
    );
    says(
        &b,
        |_, _| {},
        Severity::Unchecked,
        "",
        "What disks tern-1, tern-2, tern-3 have shows once they are installed",
    );
}
