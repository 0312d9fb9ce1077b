//! What the sheets say.

use crate::{put, worse};
use zastrugi_core::rooms::{clusters, edits, hosts, joining, machines, naming};
use zastrugi_core::testkit::Folding;
use zastrugi_core::{
    endpoint::{Endpoint, Password},
    estate::{Condition, Memory, Provisioning},
    evidence::{Answer, EvidenceBook, Greeting, Probe, SeenVolume},
    ids::{ClusterId, HostId, MachineId},
    moment::{Moment, Span},
    permits::{Permits, Role},
    rooms::clusters::CreateCluster,
    rooms::edits::{Set, Target},
    rooms::hosts::ClaimHosts,
    rooms::machines::{AfterGrace, CreateMachines, NewDisk, PowerAct},
    rooms::{Proposal, assess},
    testkit::{self, Small, machines, read},
    units::Bytes,
};

const PLAIN: &str =
    "cluster eider\nhost 1 256\nhost 2 256\nhost 3 256\nmachine 7 db 64 on 1\nmachine 8 web 16 off";

fn create(edit: impl FnOnce(&mut CreateMachines)) -> Proposal {
    let mut ask = CreateMachines {
        pledge: None,
        vcpus: 4,
        ..machines("stowage-{01}", 2, Some(ClusterId(901)), 16)
    };
    ask.disks[0].size = Bytes::gib(40);
    edit(&mut ask);
    Proposal::Machines(machines::Ask::Create(Box::new(ask)))
}

/// The first stop, with the field that it points at.
fn stopped_at(small: &Small, ask: &Proposal) -> (String, String) {
    let a = put(small, ask);
    let stop = a
        .findings()
        .iter()
        .find(|f| f.stops())
        .unwrap_or_else(|| panic!("nothing stops {ask:?}"));
    (stop.field.clone().unwrap_or_default(), stop.text.clone())
}

#[test]
fn machines_that_fit_are_created_with_a_step_for_each_stage() {
    let small = read(PLAIN);
    let a = put(&small, &create(|_| {}));
    assert_eq!(worse(&a), Vec::<String>::new());
    assert_eq!(a.steps().len(), 6, "create, power on and answer, twice");
    assert_eq!(a.places().len(), 2);
    assert!(
        a.places().iter().all(|p| p.host != HostId(1)),
        "the emptier hosts are taken: {:?}",
        a.places()
    );
}

#[test]
fn bad_input_is_said_at_its_field() {
    let small = read(PLAIN);
    let wrong: [(&str, &str, Proposal); 9] = [
        (
            "name",
            "already",
            create(|c| c.pattern = "db".into()).with_count(1),
        ),
        (
            "name",
            "lower case",
            create(|c| c.pattern = "Stowage".into()),
        ),
        ("count", "At least one", create(|c| c.count = 0)),
        ("count", "At most 100", create(|c| c.count = 101)),
        (
            "disks",
            "has no size",
            create(|c| c.disks[0].size = Bytes::ZERO),
        ),
        (
            "kept",
            "No more can be always kept",
            create(|c| c.memory.kept = Bytes::gib(17)),
        ),
        ("vcpus", "At least one vCPU", create(|c| c.vcpus = 0)),
        ("tier", "Restart tiers", create(|c| c.tier = 9)),
        (
            "cluster",
            "Choose the cluster",
            create(|c| c.cluster = None),
        ),
    ];
    for (field, words, ask) in wrong {
        let (at, text) = stopped_at(&small, &ask);
        assert_eq!(at, field, "{text}");
        assert!(text.contains(words), "{text}");
    }
}

trait WithCount {
    fn with_count(self, count: u32) -> Self;
}
impl WithCount for Proposal {
    fn with_count(mut self, count: u32) -> Self {
        if let Proposal::Machines(machines::Ask::Create(c)) = &mut self {
            c.count = count;
        }
        self
    }
}

#[test]
fn a_machine_larger_than_any_host_says_by_how_much() {
    let small = read("cluster eider\nhost 1 256\nhost 2 128");
    let big = create(|c| {
        c.count = 1;
        let size = Bytes::gib(300);
        c.memory = Memory {
            kept: size,
            size,
            max: size,
        };
    });
    let (field, text) = stopped_at(&small, &big);
    // 256 GiB less 4 GiB and 2 % are usable; 300 GiB need 128 MiB + 32 MiB + 0.4 % + 16 MiB + 32 MiB more.
    assert_eq!(field, "memory");
    assert_eq!(
        text,
        "stowage-01: larger than any host of the cluster, by 54.5\u{a0}GiB."
    );
}

#[test]
fn a_full_volume_stops_thick_disks_and_says_what_is_missing() {
    let small = read(PLAIN);
    let thick = create(|c| {
        c.disks[0] = NewDisk {
            size: Bytes::gib(6000),
            provisioning: Provisioning::Thick,
        };
    });
    let (field, text) = stopped_at(&small, &thick);
    assert_eq!(field, "disks");
    assert!(text.contains("short of 1.8\u{a0}TiB"), "{text}");
}

#[test]
fn a_viewer_is_stopped_and_an_operator_is_not() {
    let small = read(PLAIN);
    let by = |role| assess(&small.view, &Permits::of(role), &create(|_| {}), small.now).blocked();
    assert!(by(Role::Viewer));
    assert!(!by(Role::Operator));
}

#[test]
fn machines_kept_apart_need_as_many_hosts() {
    let small = read(PLAIN);
    let apart = |count| {
        create(|c| {
            c.count = count;
            c.apart = true;
        })
    };
    assert!(!put(&small, &apart(3)).blocked());
    let (_, text) = stopped_at(&small, &apart(4));
    assert!(
        text.contains("no host has room") || text.contains("no host"),
        "{text}"
    );
}

#[test]
fn the_reserve_minds_or_stops_as_the_cluster_demands() {
    let tight = |how: &str| {
        format!(
            "cluster eider {how}\nhost 1 64\nhost 2 64\nmachine 1 a 40 on 1\nmachine 2 b 10 on 2"
        )
    };
    let ask = create(|c| c.count = 1);
    let advised = put(&read(&tight("")), &ask);
    assert!(!advised.blocked());
    assert!(
        worse(&advised).iter().any(|w| w.starts_with("mind: If h")),
        "{:?}",
        worse(&advised)
    );
    assert!(put(&read(&tight("enforced")), &ask).blocked());
    assert!(worse(&put(&read(&tight("careless")), &ask)).is_empty());
}

#[test]
fn an_assessment_twice_is_the_same_assessment() {
    let small = read(PLAIN);
    let (a, b) = (put(&small, &create(|_| {})), put(&small, &create(|_| {})));
    assert_eq!(format!("{a:?}"), format!("{b:?}"));
    assert!(!a.is_worse_than(&b.seen()));
}

#[test]
fn a_chosen_place_that_changed_is_worse_than_what_was_seen() {
    let seen = put(&read(PLAIN), &create(|_| {})).seen();
    let down = put(
        &read(&PLAIN.replace("host 2 256", "host 2 256 down")),
        &create(|_| {}),
    );
    assert!(!down.blocked());
    assert!(down.is_worse_than(&seen));
}

fn power(machines: &[u64], act: PowerAct) -> Proposal {
    Proposal::Machines(machines::Ask::Power {
        machines: machines.iter().map(|m| MachineId(*m)).collect(),
        act,
    })
}

#[test]
fn power_follows_the_state() {
    let small = read(PLAIN);
    let stop = PowerAct::Stop {
        grace: Span::secs(60),
        then: AfterGrace::LeaveOn,
    };
    assert_eq!(
        worse(&put(&small, &power(&[7], PowerAct::On { host: None }))),
        ["stop: db is on already."]
    );
    assert_eq!(
        worse(&put(&small, &power(&[8], stop))),
        ["stop: web is off already."]
    );
    let a = put(&small, &power(&[7], stop));
    assert!(worse(&a).is_empty());
    assert_eq!(a.interrupted().len(), 1);
    let off = put(&small, &power(&[7], PowerAct::Off));
    assert!(worse(&off)[0].starts_with("mind: db answers and would stop by itself"));
    assert!(put(&small, &power(&[], stop)).blocked());
    assert_eq!(
        worse(&put(&small, &power(&[77], stop))),
        ["stop: This machine is gone; somebody removed it."]
    );
}

#[test]
fn deleting_needs_a_stopped_unprotected_machine_and_removal_a_typed_name() {
    let small = read(
        "cluster a\nhost 1 64\nmachine 1 run 8 on 1\nmachine 2 safe 8 off protected\nmachine 3 old 8 off\nmachine 4 gone 8 off deleted",
    );
    let delete = |id| {
        put(
            &small,
            &Proposal::Machines(machines::Ask::Delete {
                machines: vec![MachineId(id)],
            }),
        )
    };
    assert!(delete(1).blocked() && delete(2).blocked() && delete(4).blocked());
    assert!(!delete(3).blocked());
    let purge = |id, typed: &str| {
        put(
            &small,
            &Proposal::Machines(machines::Ask::Purge {
                machines: vec![MachineId(id)],
                typed: typed.into(),
            }),
        )
    };
    assert!(
        purge(3, "old").blocked(),
        "what wasn't deleted is never removed"
    );
    assert_eq!(
        purge(4, "gon").at_field("typed").map(|f| f.text.as_str()),
        Some("Type the machine's name to confirm: gone.")
    );
    assert!(!purge(4, "gone").blocked());
    assert!(
        put(
            &small,
            &Proposal::Machines(machines::Ask::Recover {
                machines: vec![MachineId(3)],
                how: Default::default()
            })
        )
        .blocked()
    );
    assert!(
        !put(
            &small,
            &Proposal::Machines(machines::Ask::Recover {
                machines: vec![MachineId(4)],
                how: Default::default()
            })
        )
        .blocked()
    );
}

#[test]
fn edits_say_what_is_wrong_with_them() {
    let small = read(PLAIN);
    let edit = |id, sets| {
        Proposal::Edits(edits::Ask::Edit {
            targets: vec![Target::Machine(MachineId(id))],
            sets,
        })
    };
    assert!(
        put(&small, &edit(7, vec![])).blocked(),
        "nothing is changed"
    );
    assert_eq!(
        stopped_at(&small, &edit(7, vec![Set::Name("web".into())])),
        ("name".into(), "There is a machine web already.".into())
    );
    let on = put(&small, &edit(7, vec![Set::VCpus(8)]));
    let waits = |f: &zastrugi_core::finding::Finding| f.text.contains("when db starts next");
    assert!(!on.blocked() && on.findings().iter().any(waits), "it is on");
    let a = put(&small, &edit(8, vec![Set::VCpus(8)]));
    assert!(!a.blocked());
    assert_eq!(a.steps().len(), 1, "the record on the volume is written");
    assert_eq!(put(&small, &edit(7, vec![Set::Tier(1)])).steps().len(), 0);
}

#[test]
fn a_host_with_machines_is_not_handed_back() {
    let small = read(PLAIN);
    let back = |id| {
        put(
            &small,
            &Proposal::Hosts(hosts::Ask::HandBack {
                hosts: vec![HostId(id)],
            }),
        )
    };
    assert_eq!(
        back(1).at_field("hosts").map(|f| f.evidence.as_str()),
        Some("db")
    );
    let fine = back(2);
    assert!(!fine.blocked());
    assert_eq!(
        fine.steps().len(),
        2,
        "it leaves its cluster, then is given up"
    );
}

fn greeting(pin: &str) -> Greeting {
    Greeting {
        name: "eider-09".into(),
        pin: pin.into(),
        hardware: testkit::host(9, 128, &Default::default()).hardware,
        software: "4.2.1".into(),
        owner: None,
        machines: vec![],
        bmc: None,
    }
}

fn claiming(greeting: Option<Greeting>, pin: &str) -> (Small, Proposal) {
    let mut small = read(PLAIN);
    let address = "10.9.0.9:7443".to_owned();
    let mut book = EvidenceBook::default();
    if let Some(greeting) = greeting {
        book.put(
            Probe::Greeting(address.clone()),
            Answer::Greeting(Box::new(greeting)),
            small.now,
        );
    }
    small.view.evidence = book.into();
    let targets = vec![Endpoint {
        address: address.into(),
        pin: pin.into(),
    }];
    (
        small,
        Proposal::Hosts(hosts::Ask::Claim(ClaimHosts {
            targets,
            site: "Quayside".into(),
            password: Password::Typed,
        })),
    )
}

#[test]
fn a_claim_rests_on_the_fingerprint_that_was_shown() {
    let (small, ask) = claiming(Some(greeting("aaaa")), "aaaa");
    assert!(!put(&small, &ask).blocked());
    let (small, ask) = claiming(Some(greeting("bbbb")), "aaaa");
    let a = put(&small, &ask);
    assert!(
        worse(&a)[0].contains("shows another certificate now"),
        "{:?}",
        worse(&a)
    );
    let (small, ask) = claiming(None, "aaaa");
    assert!(worse(&put(&small, &ask))[0].contains("was not asked lately"));
    let (small, ask) = claiming(
        Some(Greeting {
            owner: Some(("x".into(), "Others".into())),
            ..greeting("aaaa")
        }),
        "aaaa",
    );
    assert!(worse(&put(&small, &ask))[0].contains("belongs to the installation “Others”"));
    let (small, ask) = claiming(
        Some(Greeting {
            machines: vec!["m1".into()],
            ..greeting("aaaa")
        }),
        "aaaa",
    );
    assert_eq!(
        worse(&put(&small, &ask)),
        ["mind: 1 machines run on eider-09; they are registered and left running."]
    );
}

/// If this fails, a new host can join only by a second sheet, or joins before it is ours, or one that does not fit is claimed
/// and then left standing.
#[test]
fn a_new_host_is_claimed_and_joins_in_one_run() {
    let (mut small, ask) = claiming(Some(greeting("aaaa")), "aaaa");
    let Proposal::Hosts(hosts::Ask::Claim(claim)) = ask else {
        panic!("{ask:?}")
    };
    small.alter(|e| {
        let mut site = (**e.sites.values().next().unwrap()).clone();
        site.name = "Quayside".into();
        e.put(zastrugi_core::estate::Fact::Site(site.into()));
    });
    let cluster = *small.view.estate.clusters.keys().next().unwrap();
    let welcome = |claim: &ClaimHosts| {
        Proposal::Joining(joining::Ask::Welcome {
            claim: claim.clone(),
            cluster,
        })
    };
    let said = put(&small, &welcome(&claim));
    assert!(!said.blocked(), "{:?}", worse(&said));
    let steps: Vec<&joining::Step> = said
        .steps()
        .iter()
        .map(|p| match &p.step {
            zastrugi_core::rooms::Step::Joining(step) => step,
            other => panic!("{other:?}"),
        })
        .collect();
    assert!(matches!(
        steps[0],
        joining::Step::Host(hosts::Step::Claim { .. })
    ));
    assert!(matches!(
        steps[1],
        joining::Step::Cluster(clusters::Step::Verify { .. })
    ));
    assert_eq!(said.steps()[1].after, [0], "it is ours first");
    let mounts = steps.iter().any(|s| matches!(s, joining::Step::Storage(_)));
    assert!(mounts, "{steps:?}");
    let of_names = |s: &joining::Step| matches!(s, joining::Step::Name(_));
    assert!(
        !steps.iter().any(|s| of_names(s)),
        "its cluster has no zone"
    );
    // With a zone its name is entered once it has joined, and then it is asked what it is told.
    let mut named = claiming(Some(greeting("aaaa")), "aaaa").0;
    named.view.estate = small.view.estate.clone();
    named.alter(|e| {
        let mut to = (*e.clusters[&cluster]).clone();
        to.dns = Some(Box::new(crate::naming::dns()));
        e.put(zastrugi_core::estate::Fact::Cluster(to.into()));
    });
    let with_names = put(&named, &welcome(&claim));
    let at = |wanted: fn(&joining::Step) -> bool| {
        let is = |p: &&zastrugi_core::rooms::PlannedStep| match &p.step {
            zastrugi_core::rooms::Step::Joining(step) => wanted(step),
            _ => false,
        };
        let all = with_names.steps();
        all.iter()
            .position(|p| is(&p))
            .map(|n| (n, all[n].after.clone()))
            .unwrap()
    };
    let (joins, _) = at(|s| matches!(s, joining::Step::Cluster(clusters::Step::Join { .. })));
    let (enters, after) = at(|s| matches!(s, joining::Step::Name(naming::Step::BringHost { .. })));
    assert_eq!(after, [joins]);
    let (_, after) = at(|s| matches!(s, joining::Step::Name(naming::Step::AskFrom { .. })));
    assert_eq!(after, [enters]);
    // What does not fit is said before anything is claimed.
    let mut elsewhere = claim.clone();
    elsewhere.site = "Far away".into();
    let words = worse(&put(&small, &welcome(&elsewhere))).join("\n");
    assert!(words.contains("is at another site"), "{words}");
    let (mut poor, _) = claiming(None, "aaaa");
    poor.view.estate = small.view.estate.clone();
    let words = worse(&put(&poor, &welcome(&claim))).join("\n");
    assert!(words.contains("was not asked lately"), "{words}");
}

#[test]
fn old_evidence_is_not_rested_on() {
    let (mut small, ask) = claiming(Some(greeting("aaaa")), "aaaa");
    small.now = small.now.plus(Span::mins(31));
    assert!(put(&small, &ask).blocked());
}

fn clustering(sees: &[(u64, &[&str])]) -> Small {
    let mut small = read("host 1 256 loose\nhost 2 256 loose\nhost 3 256 loose");
    let mut book = EvidenceBook::default();
    for (host, volumes) in sees {
        let volumes = volumes
            .iter()
            .map(|uid| SeenVolume {
                unattached: None,
                shared: None,
                records: None,
                pool: None,
                uid: (*uid).into(),
                name: (*uid).into(),
                capacity: Bytes::gib(100),
                used: Bytes::ZERO,
                paths: testkit::paths(2),
            })
            .collect();
        book.put(
            Probe::Sight(HostId(*host)),
            Answer::Sight { volumes },
            small.now,
        );
    }
    small.view.evidence = book.into();
    small
}

#[test]
fn a_cluster_needs_a_volume_that_all_of_its_hosts_see() {
    let ask = |hosts: &[u64]| {
        Proposal::Clusters(clusters::Ask::Create(CreateCluster {
            time: vec![],
            kind: Default::default(),
            name: "Eider".into(),
            hosts: hosts.iter().map(|h| HostId(*h)).collect(),
            level: None,
            volume: None,
            demand: zastrugi_core::estate::Demand {
                failures: 1,
                domains: [false; 3],
                enforced: false,
            },
        }))
    };
    let small = clustering(&[(1, &["a", "b"]), (2, &["b"]), (3, &["a"])]);
    assert!(!put(&small, &ask(&[1, 2])).blocked());
    let without = put(&small, &ask(&[1, 2, 3]));
    assert!(!without.blocked(), "it can be connected afterwards");
    assert!(
        worse(&without)
            .iter()
            .any(|f| f.contains("No free volume is seen by all of these hosts")),
        "{:?}",
        worse(&without)
    );
    let blind = clustering(&[(1, &["a"])]);
    assert!(
        stopped_at(&blind, &ask(&[1, 2]))
            .1
            .contains("did not say which volumes")
    );
    let a = put(&small, &ask(&[1, 2]));
    assert!(
        a.findings()
            .iter()
            .any(|f| f.severity.word() == "unchecked"),
        "clocks were not read: unchecked, never clear"
    );
}

#[test]
fn a_host_that_is_silent_takes_nothing() {
    let mut small = read("cluster a\nhost 1 64");
    let mut estate = (*small.view.estate).clone();
    let change =
        zastrugi_core::rooms::Event::Hosts(zastrugi_core::rooms::hosts::Event::Condition {
            host: HostId(1),
            condition: Condition::Stranger {
                since: Moment(0),
                pin: String::new(),
            },
        });
    estate.absorb(&change);
    small.view = small.view.with(estate);
    let a = put(&small, &create(|c| c.count = 1));
    assert!(a.blocked());
    assert!(
        a.findings()[0].evidence.contains("certificate"),
        "{:?}",
        a.findings()[0]
    );
}

#[test]
fn machines_that_are_made_off_hold_no_memory_and_nothing_is_called_clear_of_their_start() {
    let small = read(
        "cluster eider enforced\nhost 1 64\nhost 2 64\nmachine 7 db 40 on 1\nmachine 8 web 40 on 2",
    );
    let off = |gib: u64| {
        create(|c| {
            c.start = false;
            let size = Bytes::gib(gib);
            c.memory = Memory {
                kept: size,
                size,
                max: size,
            };
        })
    };
    let a = put(&small, &off(16));
    assert!(
        !a.blocked(),
        "an enforced cluster judges what would be on: {:?}",
        worse(&a)
    );
    assert!(
        a.fills().is_empty() && a.places().is_empty(),
        "{:?}",
        a.places()
    );
    assert_eq!(a.steps().len(), 2, "made, and no more");
    let a = put(&small, &off(30));
    assert!(
        worse(&a)[0].starts_with("mind: There is no room now to power 2 of them on."),
        "{:?}",
        worse(&a)
    );
    assert!(
        put(&small, &off(100)).blocked(),
        "it could start nowhere, ever"
    );
    let on = put(&small, &create(|c| c.memory.kept = Bytes::gib(16)));
    assert!(on.blocked(), "powered on they count");
}

#[test]
fn the_hosts_that_were_chosen_are_not_among_those_that_were_not() {
    let small = read(PLAIN);
    let a = put(&small, &create(|c| c.count = 4));
    let chosen: Vec<_> = a.places().iter().map(|p| p.host_name.clone()).collect();
    assert!(
        a.refused().iter().all(|(host, _)| !chosen.contains(host)),
        "{:?} of {chosen:?}",
        a.refused()
    );
}

#[test]
fn a_guest_without_an_agent_gets_its_power_button_and_five_minutes() {
    let mut small = read(PLAIN);
    small.alter(|e| {
        let mut m = (*e.machines[&MachineId(7)]).clone();
        m.state = zastrugi_core::estate::MachineState::Running { guest: false };
        e.put(zastrugi_core::estate::Fact::Machine(m.into()));
    });
    let (grace, then) = (Span::secs(120), AfterGrace::LeaveOn);
    let act = PowerAct::Stop { grace, then };
    let machines = vec![MachineId(7)];
    let a = put(
        &small,
        &Proposal::Machines(machines::Ask::Power { machines, act }),
    );
    assert_eq!(
        worse(&a)[0],
        "mind: The agent of db is silent: its power button is pressed. If it hasn't stopped after 5 min, it is left on and the run asks you."
    );
}
