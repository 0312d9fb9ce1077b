//! More of what the sheets say: clusters, claims, bulk edits, restarts, disks.

use crate::{put, worse};
use std::sync::Arc;
use zastrugi_core::road::Work;
use zastrugi_core::rooms::{clusters, edits, hosts, machines};
use zastrugi_core::{
    endpoint::{Endpoint, Password},
    estate::{Bmc, Demand, Estate, Fact, Memory, Provisioning, PsabiLevel, Site},
    evidence::{Answer, EvidenceBook, Greeting, Probe, SeenVolume},
    finding::Severity,
    ids::{ClusterId, HostId, MachineId, SiteId},
    moment::Span,
    rooms::clusters::CreateCluster,
    rooms::edits::{Set, Target},
    rooms::hosts::ClaimHosts,
    rooms::machines::{AfterGrace, CreateMachines, NewDisk, PowerAct},
    rooms::{Proposal, Step},
    testkit::{self, Small, read},
    units::Bytes,
};

const LOOSE: &str = "host 1 256 loose\nhost 2 256 loose";

fn told(small: &mut Small, answers: Vec<(Probe, Answer)>) {
    let mut book = EvidenceBook::clone(&small.view.evidence);
    for (probe, answer) in answers {
        book.put(probe, answer, small.now);
    }
    small.view.evidence = book.into();
}

/// Both hosts see one volume, have right clocks and controllers that answer.
fn two_hosts() -> Small {
    let mut small = read(LOOSE);
    for id in [1, 2] {
        small.alter_host(id, |h| {
            h.bmc = Some(Bmc {
                address: format!("10.0.1.{id}:8443"),
                pin: "p".into(),
                user: "zastrugi".into(),
                key: None,
            });
        });
        let host = HostId(id);
        let volume = SeenVolume {
            unattached: None,
            shared: None,
            records: None,
            pool: None,
            uid: "a".into(),
            name: "slab".into(),
            capacity: Bytes::gib(100),
            used: Bytes::gib(40),
            paths: testkit::paths(2),
        };
        let serial = format!("S{id}");
        told(
            &mut small,
            vec![
                (
                    Probe::Sight(host),
                    Answer::Sight {
                        volumes: vec![volume],
                    },
                ),
                (Probe::Clock(host), Answer::Clock { offset_ms: 3 }),
                (
                    Probe::Bmc(host),
                    Answer::Bmc {
                        serial,
                        power: "On".into(),
                    },
                ),
            ],
        );
    }
    small
}

fn cluster(hosts: &[u64]) -> CreateCluster {
    CreateCluster {
        time: vec![],
        kind: Default::default(),
        name: "Eider".into(),
        hosts: hosts.iter().map(|h| HostId(*h)).collect(),
        level: None,
        volume: None,
        demand: Demand {
            failures: 1,
            domains: [false; 3],
            enforced: false,
        },
    }
}

fn clustering(small: &Small, edit: impl FnOnce(&mut CreateCluster)) -> Vec<String> {
    let mut ask = cluster(&[1, 2]);
    edit(&mut ask);
    worse(&put(small, &Proposal::Clusters(clusters::Ask::Create(ask))))
}

#[test]
fn a_cluster_of_two_good_hosts_is_clear_and_joins_each_after_its_check() {
    let small = two_hosts();
    let a = put(
        &small,
        &Proposal::Clusters(clusters::Ask::Create(cluster(&[1, 2]))),
    );
    assert_eq!(worse(&a), Vec::<String>::new());
    let steps = a.steps();
    for (i, planned) in steps.iter().enumerate() {
        if let Step::Clusters(clusters::Step::Join { host, .. }) = planned.step {
            let before = &steps[planned.after[0]].step;
            assert_eq!(
                before,
                &Step::Clusters(clusters::Step::Verify { host, near: None }),
                "step {i}"
            );
        }
    }
    assert!(
        matches!(steps[4].step, Step::Clusters(clusters::Step::Ready { .. }))
            && steps[4].after.len() == 2,
        "the cluster opens when both joined"
    );
}

#[test]
fn clocks_and_controllers_are_said_with_their_figures() {
    let mut small = two_hosts();
    told(
        &mut small,
        vec![(Probe::Clock(HostId(2)), Answer::Clock { offset_ms: -640 })],
    );
    assert_eq!(
        clustering(&small, |_| {}),
        ["mind: The clock of h2 is -640 ms off."]
    );
    let mut small = two_hosts();
    let why = "no answer in 4 s".to_owned();
    told(
        &mut small,
        vec![
            (Probe::Clock(HostId(1)), Answer::Silent { why: why.clone() }),
            (Probe::Bmc(HostId(1)), Answer::Silent { why }),
        ],
    );
    assert_eq!(
        clustering(&small, |_| {}),
        [
            "mind: The management controller of h1 does not answer: no answer in 4 s.",
            "unchecked: The clock of h1 can't be read: no answer in 4 s.",
        ]
    );
    let mut small = two_hosts();
    let another = Answer::Bmc {
        serial: "S9".into(),
        power: "On".into(),
    };
    told(&mut small, vec![(Probe::Bmc(HostId(2)), another)]);
    assert_eq!(
        clustering(&small, |_| {}),
        ["stop: The management controller given for h2 is another machine's."],
        "fencing it would switch off somebody else"
    );
}

#[test]
fn evidence_of_five_minutes_ago_is_unchecked_again() {
    let mut small = two_hosts();
    small.now = small.now.plus(Span::mins(5));
    let found = clustering(&small, |_| {});
    assert!(
        found
            .iter()
            .any(|f| f.starts_with("stop: h1, h2 did not say which volumes")),
        "{found:?}"
    );
    let unchecked = found.iter().filter(|f| f.starts_with("unchecked"));
    assert_eq!(unchecked.count(), 4, "{found:?}");
}

#[test]
fn hosts_that_differ_are_refused_or_minded_as_it_matters() {
    let mut small = two_hosts();
    small.alter_host(2, |h| h.hardware.cpu.maker = "Sealand".into());
    assert!(
        clustering(&small, |_| {})[0].starts_with("stop: The hosts have CPUs of different makers")
    );
    let mut small = two_hosts();
    small.alter_host(2, |h| h.software = "4.1.0".into());
    assert_eq!(
        clustering(&small, |_| {}),
        ["mind: The hosts have different software versions."]
    );
    let mut small = two_hosts();
    small.alter_host(2, |h| h.site = SiteId(899));
    assert!(clustering(&small, |_| {})[0].starts_with("stop: The hosts are at different sites"));
    let small = two_hosts();
    assert!(clustering(&small, |c| c.hosts.truncate(1))[0].starts_with("mind: One host alone"));
    assert_eq!(
        clustering(&small, |c| c.level = Some(PsabiLevel::V4)),
        ["stop: h1, h2 can't do CPU level x86-64-v4."]
    );
    assert_eq!(
        clustering(&small, |c| c.level = Some(PsabiLevel::V2)),
        Vec::<String>::new()
    );
}

#[test]
fn a_cluster_takes_its_name_and_its_volume_once() {
    let mut small = two_hosts();
    let other = read("cluster Eider\nhost 9 64");
    let mut estate = Estate::clone(&small.view.estate);
    let mut volume = (*other.view.estate.volumes[&zastrugi_core::ids::VolumeId(951)]).clone();
    volume.uid = "a".into();
    estate.put(Fact::Volume(Arc::new(volume)));
    estate.put(Fact::Cluster(
        other.view.estate.clusters[&ClusterId(901)].clone(),
    ));
    small.view = small.view.with(estate);
    let found = clustering(&small, |_| {});
    assert!(found.contains(&"stop: There is a cluster Eider already.".to_owned()));
    assert!(
        found
            .iter()
            .any(|f| f.starts_with("mind: No free volume is seen by all of these hosts")),
        "{found:?}"
    );
    let found = clustering(&small, |c| c.volume = Some("a".into()));
    assert!(found.contains(&"stop: slab belongs to another cluster.".to_owned()));
}

fn claim(edit: impl FnOnce(&mut Greeting), site: &str, password: Password) -> Vec<String> {
    let mut small = read(LOOSE);
    let mut greeting = Greeting {
        name: "eider-09".into(),
        pin: "aaaa".into(),
        hardware: testkit::host(9, 128, &Default::default()).hardware,
        software: "4.2.1".into(),
        owner: None,
        machines: vec![],
        bmc: None,
    };
    edit(&mut greeting);
    let address = "10.9.0.9:7443".to_owned();
    told(
        &mut small,
        vec![(
            Probe::Greeting(address.clone()),
            Answer::Greeting(Box::new(greeting)),
        )],
    );
    let pin = "aaaa".into();
    let ask = ClaimHosts {
        targets: vec![Endpoint {
            address: address.into(),
            pin,
        }],
        site: site.into(),
        password,
    };
    worse(&put(&small, &Proposal::Hosts(hosts::Ask::Claim(ask))))
}

#[test]
fn a_host_below_the_least_or_without_virtualization_is_not_claimed() {
    let typed = Password::Typed;
    assert_eq!(claim(|_| {}, "Quayside", typed), Vec::<String>::new());
    assert!(claim(|g| g.hardware.memory = Bytes::gib(8), "Quayside", typed)[0].starts_with("stop"));
    assert!(claim(|g| g.hardware.cpu.cores = 2, "Quayside", typed)[0].starts_with("stop"));
    assert_eq!(
        claim(|g| g.hardware.virtualization = false, "Quayside", typed),
        ["stop: Virtualization is switched off in the firmware of eider-09."]
    );
    assert_eq!(
        claim(|g| g.name = "h1".into(), "Quayside", typed),
        ["stop: There is a host h1 already."]
    );
    assert!(claim(|g| g.name = "EIDER 9".into(), "Quayside", typed)[0].contains("calls itself"));
    assert_eq!(
        claim(|_| {}, "Quayside", Password::Missing),
        ["stop: Type the password that the hosts were installed with."]
    );
    assert!(
        claim(|_| {}, " ", typed)[0].starts_with("stop"),
        "a site has a name"
    );
}

#[test]
fn a_claim_may_open_a_new_site_and_says_so() {
    let small = read(LOOSE);
    assert!(
        small
            .view
            .estate
            .sites
            .values()
            .any(|s: &Arc<Site>| s.name == "Quayside")
    );
    assert_eq!(
        claim(|_| {}, "Lantern Point", Password::Typed),
        Vec::<String>::new()
    );
}

const MACHINES: &str = "cluster a\nhost 1 256\nhost 2 256\nmachine 7 db 64 on 1 label=app:tickets\nmachine 8 web 16 off\nmachine 9 api 16 off";

fn edit(ids: &[u64], sets: Vec<Set>) -> Proposal {
    Proposal::Edits(edits::Ask::Edit {
        targets: ids.iter().map(|i| Target::Machine(MachineId(*i))).collect(),
        sets,
    })
}

#[test]
fn many_machines_take_labels_and_tiers_at_once_but_never_one_name() {
    let small = read(MACHINES);
    let label = Set::Label {
        key: "owner".into(),
        value: "cargo".into(),
    };
    let a = put(&small, &edit(&[7, 8, 9], vec![label, Set::Tier(2)]));
    assert_eq!(worse(&a), Vec::<String>::new());
    assert_eq!(a.title(), "Edit 3 machines");
    let found = worse(&put(&small, &edit(&[8, 9], vec![Set::Name("one".into())])));
    assert_eq!(found, ["stop: Several can't have one name."]);
}

#[test]
fn what_is_typed_wrongly_in_an_edit_is_said_at_its_field() {
    let small = read(MACHINES);
    let memory = |kept, size, max| {
        let [kept, size, max] = [kept, size, max].map(Bytes::mib);
        Set::Memory(Memory { kept, size, max })
    };
    let label = |key: &str| Set::Label {
        key: key.into(),
        value: "".into(),
    };
    let wrong: [(&str, Set); 11] = [
        ("name", Set::Name("No Good".into())),
        ("name", Set::Name("".into())),
        ("tier", Set::Tier(0)),
        ("vcpus", Set::VCpus(0)),
        ("memory", memory(32, 32, 32)),
        ("kept", memory(2048, 1024, 4096)),
        ("max", memory(512, 1024, 512)),
        ("labels", label("")),
        ("labels", label("a b")),
        (
            "labels",
            Set::Label {
                key: "team".into(),
                value: "x".repeat(61).into(),
            },
        ),
        ("name", Set::Name("x".repeat(64).into())),
    ];
    for (field, set) in wrong {
        let a = put(&small, &edit(&[8], vec![set.clone()]));
        assert!(a.at_field(field).is_some(), "{set:?}: {:?}", worse(&a));
    }
    assert!(!put(&small, &edit(&[8], vec![label("team/owner.x-1_2")])).blocked());
    let many = |n: usize| (0..n).map(|i| label(&format!("l{i}"))).collect();
    assert!(!put(&small, &edit(&[8], many(32))).blocked());
    let a = put(&small, &edit(&[8], many(33)));
    assert!(
        a.at_field("labels").is_some(),
        "a page must not grow with labels"
    );
}

#[test]
fn a_cluster_promises_no_more_failures_than_are_computed() {
    let small = read(MACHINES);
    let demand = |failures| {
        Proposal::Edits(edits::Ask::Edit {
            targets: vec![Target::Cluster(ClusterId(901))],
            sets: vec![Set::Demand(Demand {
                failures,
                domains: [false; 3],
                enforced: true,
            })],
        })
    };
    assert!(!put(&small, &demand(1)).blocked());
    assert!(!put(&small, &demand(2)).blocked());
    assert!(put(&small, &demand(3)).blocked());
}

#[test]
fn a_restart_is_stop_wait_start_answer_in_a_row() {
    let small = read(MACHINES);
    let act = PowerAct::Restart {
        grace: Span::secs(90),
        then: AfterGrace::PowerOff,
    };
    let ask = Proposal::Machines(machines::Ask::Power {
        machines: vec![MachineId(7)],
        act,
    });
    let a = put(&small, &ask);
    let kinds: Vec<_> = a.steps().iter().map(|s| s.step.group()).collect();
    assert_eq!(
        kinds,
        [
            "ask the guest to stop",
            "wait until it is off",
            "power on",
            "guest answers"
        ]
    );
    for (i, step) in a.steps().iter().enumerate().skip(1) {
        assert_eq!(step.after, [i - 1]);
    }
    assert_eq!(a.interrupted().len(), 1);
}

#[test]
fn machines_powered_on_together_share_what_there_is() {
    let small = read(
        "cluster a careless\nhost 1 64\nhost 2 64\nmachine 1 a 40 off\nmachine 2 b 40 off\nmachine 3 c 40 off",
    );
    let on = |ids: &[u64]| {
        Proposal::Machines(machines::Ask::Power {
            machines: ids.iter().map(|i| MachineId(*i)).collect(),
            act: PowerAct::On { host: None },
        })
    };
    let two = put(&small, &on(&[1, 2]));
    assert!(!two.blocked());
    let hosts: Vec<_> = two.places().iter().map(|p| p.host).collect();
    assert_ne!(hosts[0], hosts[1]);
    let three = put(&small, &on(&[1, 2, 3]));
    let found = worse(&three);
    assert!(
        found
            .iter()
            .any(|f| f.starts_with("stop: No host of a has room for")),
        "{found:?}"
    );
}

fn create(small: &Small, count: u32, disk: NewDisk, kept: u64) -> Vec<(Severity, String)> {
    let mut ask = CreateMachines {
        pledge: None,
        vcpus: 2,
        disks: vec![disk],
        ..testkit::machines("new", count, Some(ClusterId(901)), 16)
    };
    ask.memory.kept = Bytes::gib(kept);
    let a = put(
        small,
        &Proposal::Machines(machines::Ask::Create(Box::new(ask))),
    );
    let volume = a.findings().iter().filter(|f| f.subject == "slab-951");
    volume.map(|f| (f.severity, f.text.clone())).collect()
}

#[test]
fn room_on_the_volume_counts_thick_thin_and_swap() {
    // The fixture's volume: 10,240 GiB, 100 used, and each machine above has a thin disk of 40 GiB.
    let small = read(MACHINES);
    let disk = |gib, provisioning| NewDisk {
        size: Bytes::gib(gib),
        provisioning,
    };
    let all_kept = create(&small, 1, disk(1000, Provisioning::Thick), 16);
    assert_eq!(
        all_kept,
        [(Severity::Clear, "slab-951 keeps 8.9\u{a0}TiB free.".into())],
        "10,240 - 100 - 1,000 = 9,140 GiB"
    );
    let swapping = create(&small, 1, disk(1000, Provisioning::Thin), 0);
    assert_eq!(
        swapping,
        [(Severity::Clear, "slab-951 keeps 9.8\u{a0}TiB free.".into())],
        "10,140 - 100 - 16 of swap = 10,024 GiB"
    );
    let tight = create(&small, 1, disk(8700, Provisioning::Thick), 16);
    assert_eq!(
        tight[0].0,
        Severity::Mind,
        "1,440 GiB left are less than 15 %"
    );
    let over = create(&small, 3, disk(9000, Provisioning::Thin), 16);
    assert_eq!(over.len(), 2, "{over:?}");
    assert!(
        over.iter()
            .any(|(s, t)| *s == Severity::Mind && t.contains("promised 2.6 times over")),
        "(27,000 + 120) / 10,240 = 2.64: {over:?}"
    );
}

#[test]
fn what_another_run_holds_is_said_before_one_waits_for_it() {
    let mut small = read(MACHINES);
    let on = |ids: &[u64]| {
        Proposal::Machines(machines::Ask::Power {
            machines: ids.iter().map(|i| MachineId(*i)).collect(),
            act: PowerAct::On { host: None },
        })
    };
    let seen = put(&small, &edit(&[8], vec![Set::Name("quay".into())])).seen();
    let accepted = put(&small, &on(&[8])).accept().unwrap();
    small.begin(accepted);
    let label = Set::Label {
        key: "a".into(),
        value: "".into(),
    };
    let rename = put(&small, &edit(&[8], vec![Set::Name("quay".into())]));
    assert!(
        worse(&rename)[0].starts_with("mind: web is held by run-"),
        "{:?}",
        worse(&rename)
    );
    assert_eq!(
        worse(&put(&small, &edit(&[8], vec![label]))),
        Vec::<String>::new(),
        "a label needs nobody"
    );
    assert_eq!(
        worse(&put(&small, &on(&[9]))),
        Vec::<String>::new(),
        "another machine"
    );
    assert!(
        !rename.is_worse_than(&seen),
        "to wait is no reason to ask again"
    );
}
