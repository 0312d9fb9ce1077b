//! Rules for where machines may be: what they refuse, what they mind, what is broken, and the move that heals it.

use crate::{put, worse};
use std::collections::BTreeSet;
use zastrugi_core::rooms::{edits, moving};
use zastrugi_core::{
    availability::{Survival, broken},
    estate::{ClusterKind, Fact, PlaceRule, RuleKind, Where, Who},
    ids::{ClusterId, HostId, MachineId, SiteId},
    rooms::Proposal,
    rooms::edits::{Set, Target},
    rooms::moving::Move,
    testkit::{Small, read},
};

const CLUSTER: ClusterId = ClusterId(901);
const PLAIN: &str = "cluster eider careless
    host 1 256\nhost 2 256\nhost 3 256
    machine 11 db 16 on 1 label=app:db\nmachine 12 db-2 32 on 1 label=app:db\nmachine 13 web 8 on 2";

fn rule(name: &str, kind: RuleKind, who: Who, required: bool) -> PlaceRule {
    PlaceRule {
        name: name.into(),
        kind,
        who,
        required,
    }
}

fn dbs() -> Who {
    Who::Label("app=db".into())
}

fn these(machines: &[u64]) -> Who {
    Who::Machines(machines.iter().map(|m| MachineId(*m)).collect())
}

fn with(rules: Vec<PlaceRule>) -> Small {
    let mut small = read(PLAIN);
    small.alter(|e| {
        let mut c = (*e.clusters[&CLUSTER]).clone();
        c.rules = rules.clone();
        e.put(Fact::Cluster(c.into()));
    });
    small
}

fn breaks(small: &Small) -> Vec<(String, Option<(MachineId, HostId)>)> {
    let found = broken(&small.view, &small.view.estate.clusters[&CLUSTER]);
    found.into_iter().map(|b| (b.words, b.heal)).collect()
}

fn start(machine: u64) -> Proposal {
    Proposal::Moving(moving::Ask::Move(Move {
        machines: vec![MachineId(machine)],
        to: Some(HostId(1)),
        disks: None,
        slow: false,
        force: false,
        wire: false,
    }))
}

#[test]
fn machines_that_should_be_apart_and_are_not_are_told_with_the_move_that_heals_it() {
    let small = with(vec![rule("dbs", RuleKind::Apart, dbs(), true)]);
    let found = breaks(&small);
    assert_eq!(found.len(), 1);
    assert_eq!(found[0].0, "db and db-2 are on h1");
    let (machine, host) = found[0].1.unwrap();
    assert_eq!(machine, MachineId(11), "the smaller one goes");
    assert_ne!(host, HostId(1));
}

#[test]
fn machines_that_should_be_together_are_brought_to_where_most_are() {
    let small = with(vec![rule(
        "app",
        RuleKind::Together,
        these(&[11, 12, 13]),
        true,
    )]);
    let found = breaks(&small);
    assert_eq!(found[0].0, "web is on h2");
    assert_eq!(found[0].1, Some((MachineId(13), HostId(1))));
}

#[test]
fn who_is_pinned_goes_nowhere_else() {
    let only =
        |hosts: &[u64]| RuleKind::Pinned(Where::Hosts(hosts.iter().map(|h| HostId(*h)).collect()));
    let small = with(vec![rule("licence", only(&[2, 3]), these(&[13]), true)]);
    assert_eq!(breaks(&small), []);
    let said = put(&small, &start(13));
    let why = &said.findings()[0].evidence;
    assert!(why.contains("“licence” keeps it to other hosts"), "{why}");
    let small = with(vec![rule("licence", only(&[2, 3]), these(&[13]), false)]);
    let lines = worse(&put(&small, &start(13)));
    let minded = lines
        .iter()
        .any(|l| l.starts_with("mind: web on h1: “licence”, which is preferred"));
    assert!(minded, "preferred is only minded: {lines:?}");
}

#[test]
fn hosts_are_meant_by_their_labels_too() {
    let pin = RuleKind::Pinned(Where::Label("rack=a2".into()));
    let mut small = with(vec![rule("rack", pin, these(&[13]), true)]);
    assert_eq!(
        breaks(&small),
        [("web is on h2".into(), None)],
        "no host has the label"
    );
    small.alter_host(3, |h| drop(h.labels.insert("rack".into(), "a2".into())));
    assert_eq!(
        breaks(&small),
        [("web is on h2".into(), Some((MachineId(13), HostId(3))))]
    );
}

fn rules(all: Vec<PlaceRule>) -> Proposal {
    Proposal::Edits(edits::Ask::Edit {
        targets: vec![Target::Cluster(CLUSTER)],
        sets: vec![Set::Rules(all)],
    })
}

#[test]
fn a_rule_that_can_t_be_meant_so_is_refused_at_its_field() {
    let small = read(PLAIN);
    let stops = |all: Vec<PlaceRule>| {
        let said = put(&small, &rules(all));
        let stop = said.findings().iter().find(|f| f.stops()).cloned();
        stop.map(|f| (f.field.unwrap_or_default(), f.text))
    };
    let apart = |name: &str, who| rule(name, RuleKind::Apart, who, true);
    assert_eq!(stops(vec![apart("dbs", dbs())]), None);
    assert_eq!(stops(vec![apart("", dbs())]).unwrap().0, "name");
    assert_eq!(
        stops(vec![apart("a", dbs()), apart("a", dbs())]).unwrap().0,
        "name"
    );
    assert_eq!(
        stops(vec![apart("one", these(&[11]))]).unwrap().0,
        "machines"
    );
    let nowhere = RuleKind::Pinned(Where::Hosts(BTreeSet::new()));
    assert_eq!(
        stops(vec![rule("p", nowhere, these(&[11]), true)])
            .unwrap()
            .0,
        "hosts"
    );
    let mut small =
        read("cluster eider careless\nhost 1 256\nmachine 11 a 8 on 1\nmachine 12 b 8 on 1");
    small.alter(|_| {});
    let said = put(&small, &rules(vec![apart("x", these(&[11, 12]))]));
    assert!(
        said.at_field("machines")
            .unwrap()
            .text
            .contains("can't be apart on 1 hosts")
    );
}

#[test]
fn nobody_waits_for_itself() {
    let small = read(
        "cluster eider careless\nhost 1 256\nmachine 11 a 8 on 1 after=12\nmachine 12 b 8 on 1",
    );
    let ask = Proposal::Edits(edits::Ask::Edit {
        targets: vec![Target::Machine(MachineId(12))],
        sets: vec![Set::After(Some(MachineId(11)))],
    });
    let said = put(&small, &ask);
    assert_eq!(
        said.at_field("after").unwrap().text,
        "b would wait for itself, by way of a."
    );
}

#[test]
fn a_sheet_says_what_headroom_is_left() {
    // Taking a host's machines off the list of those that restart raises headroom; it is said.
    let small = read(
        "cluster eider enforced\nhost 1 64\nhost 2 64\nmachine 11 a 40 on 1\nmachine 12 b 30 on 2",
    );
    let off = Proposal::Edits(edits::Ask::Edit {
        targets: vec![Target::Machine(MachineId(12))],
        sets: vec![Set::Restarts(false)],
    });
    let said = put(&small, &off);
    assert!(!said.blocked(), "{:?}", said.findings());
    let grow = Proposal::Edits(edits::Ask::Edit {
        targets: vec![Target::Machine(MachineId(11))],
        sets: vec![Set::Tier(1)],
    });
    let lines = worse(&put(&small, &grow));
    let still = lines
        .iter()
        .any(|l| l.starts_with("mind: If h") && l.contains("still find no place"));
    assert!(still, "what was so before blocks nobody: {lines:?}");
}

#[test]
fn a_cluster_is_of_a_kind_only_if_it_is_built_so() {
    let kind = |kind| {
        Proposal::Edits(edits::Ask::Edit {
            targets: vec![Target::Cluster(CLUSTER)],
            sets: vec![Set::Kind(kind)],
        })
    };
    let mut small = read(PLAIN);
    assert!(
        put(&small, &kind(ClusterKind::TwoHosts))
            .at_field("kind")
            .is_some(),
        "three hosts"
    );
    assert!(
        put(&small, &kind(ClusterKind::TwoSites))
            .at_field("kind")
            .is_some(),
        "one site"
    );
    small.alter_host(3, |h| h.site = SiteId(77));
    let said = put(&small, &kind(ClusterKind::TwoSites));
    assert!(!said.blocked(), "{:?}", said.findings());
}

#[test]
fn a_stretched_cluster_must_lose_either_site() {
    // Any one host may fail, but not the site with two of them.
    let mut small = read(
        "cluster eider\nhost 1 64\nhost 2 64\nhost 3 64\nmachine 11 a 30 on 1\nmachine 12 b 30 on 2\nmachine 13 c 20 on 3",
    );
    small.alter_host(3, |h| h.site = SiteId(77));
    let ask = |kind| {
        Proposal::Edits(edits::Ask::Edit {
            targets: vec![Target::Cluster(CLUSTER)],
            sets: vec![Set::Kind(kind), Set::Tier(1)],
        })
    };
    let meets = |kind| {
        let estate = &small.view.estate;
        let mut cluster = (*estate.clusters[&CLUSTER]).clone();
        cluster.kind = kind;
        Survival::of(&small.view, &cluster).meets(&cluster)
    };
    assert!(meets(ClusterKind::OneSite));
    assert!(!meets(ClusterKind::TwoSites));
    assert!(!put(&small, &ask(ClusterKind::OneSite)).blocked());
}

fn save(rules: Vec<PlaceRule>) -> Proposal {
    Proposal::Edits(edits::Ask::Edit {
        targets: vec![Target::Cluster(CLUSTER)],
        sets: vec![Set::Rules(rules)],
    })
}

#[test]
fn a_rule_that_is_broken_when_it_is_saved_is_minded_with_the_move_that_heals_it() {
    let small = read(PLAIN);
    let a = put(
        &small,
        &save(vec![rule("dbs", RuleKind::Apart, dbs(), true)]),
    );
    assert!(!a.blocked());
    let mind = a
        .findings()
        .iter()
        .find(|f| f.text.contains("does not hold"))
        .unwrap();
    assert_eq!(
        mind.text,
        "“dbs” does not hold as it is: db and db-2 are on h1. Nothing moves by itself."
    );
    assert!(
        mind.remedy.as_ref().unwrap().starts_with("Moving db to h"),
        "{mind:?}"
    );
    // One that was broken before is not said again.
    let small = with(vec![rule("dbs", RuleKind::Apart, dbs(), true)]);
    let a = put(
        &small,
        &save(vec![
            rule("dbs", RuleKind::Apart, dbs(), true),
            rule(
                "licence",
                RuleKind::Pinned(Where::Label("rack=a1".into())),
                these(&[13]),
                false,
            ),
        ]),
    );
    assert!(
        !worse(&a).iter().any(|l| l.contains("“dbs” does not hold")),
        "{:?}",
        worse(&a)
    );
}

#[test]
fn what_one_rule_keeps_together_no_other_keeps_apart() {
    let small = read(PLAIN);
    let both = |required: bool| {
        save(vec![
            rule("app", RuleKind::Together, these(&[11, 12]), true),
            rule("dbs", RuleKind::Apart, dbs(), required),
        ])
    };
    let said = worse(&put(&small, &both(true)));
    assert_eq!(
        said[0],
        "stop: “app” keeps db and db-2 together, “dbs” keeps them apart: they could run nowhere."
    );
    assert!(
        !put(&small, &both(false)).blocked(),
        "a preferred one yields"
    );
}

#[test]
fn machines_that_are_kept_together_move_as_one() {
    let mut small = with(vec![rule(
        "app",
        RuleKind::Together,
        these(&[11, 12]),
        true,
    )]);
    let relocate = |to: Option<u64>| {
        Proposal::Moving(moving::Ask::Move(Move {
            machines: vec![MachineId(11)],
            to: to.map(HostId),
            disks: None,
            slow: false,
            force: true,
            wire: false,
        }))
    };
    let places = |small: &Small, to| {
        let a = put(small, &relocate(to));
        let all: Vec<_> = a
            .places()
            .iter()
            .map(|p| (p.machine.clone(), p.host_name.clone()))
            .collect();
        (all, worse(&a))
    };
    let (both, said) = places(&small, Some(3));
    assert_eq!(
        both,
        [
            ("db-2".to_owned(), "h3".to_owned()),
            ("db".to_owned(), "h3".to_owned())
        ]
    );
    assert!(
        said.iter()
            .any(|l| l == "mind: db-2 moves too: “app” keeps it together with what moves."),
        "{said:?}"
    );
    let (both, _) = places(&small, None);
    assert_eq!(both[0].1, both[1].1, "one host for both: {both:?}");
    // Together they are larger than what any other host has free: neither goes.
    small.alter_host(2, |h| {
        h.hardware.memory = zastrugi_core::units::Bytes::gib(48)
    });
    small.alter_host(3, |h| {
        h.hardware.memory = zastrugi_core::units::Bytes::gib(48)
    });
    let (both, said) = places(&small, None);
    assert!(both.is_empty(), "{both:?}");
    assert!(
        said.iter().any(|l| l.contains("takes all of db-2 and db")),
        "{said:?}"
    );
}

/// If this fails, storage on two sites waits for every write, and the sheet called it fine.
#[test]
fn two_sites_that_are_too_far_apart_are_no_cluster() {
    use zastrugi_core::evidence::{Answer, Probe};
    use zastrugi_core::rooms::clusters::{self, CreateCluster};
    let mut small = read("host 1 64 loose\nhost 2 64 loose\nhost 3 64 loose\nhost 4 64 loose");
    for id in [3, 4] {
        small.alter_host(id, |h| h.site = SiteId(77));
    }
    let ask = Proposal::Clusters(clusters::Ask::Create(CreateCluster {
        name: "Both".into(),
        hosts: (1..=4).map(zastrugi_core::ids::HostId).collect(),
        level: None,
        volume: None,
        demand: zastrugi_core::estate::Demand {
            failures: 0,
            domains: [false; 3],
            enforced: false,
        },
        kind: ClusterKind::TwoSites,
        time: vec![],
    }));
    let hosts: Vec<_> = small.view.estate.hosts.values().cloned().collect();
    let (from, to) = clusters::between(&clusters::ends(&hosts).unwrap());
    assert_eq!((from.0, to.0), (1, 3), "the first of each site");
    assert!(clusters::ends(&hosts[..2]).is_none(), "one site");
    let mut says = |answer: Option<Answer>| {
        let mut book = zastrugi_core::evidence::EvidenceBook::clone(&small.view.evidence);
        if let Some(answer) = answer {
            book.put(Probe::RoundTrip { from, to }, answer, small.now);
        }
        small.view.evidence = book.into();
        let said = put(&small, &ask);
        let found = said
            .findings()
            .iter()
            .find(|f| f.text.contains("round trip"));
        found
            .map(|f| format!("{}: {}", f.severity.word(), f.text))
            .unwrap()
    };
    assert!(
        says(None)
            .starts_with("unchecked: How long a round trip from h1 to h3 takes was not measured")
    );
    let silent = Answer::Silent { why: "cut".into() };
    assert!(says(Some(silent)).ends_with("can't be measured: cut."));
    assert_eq!(
        says(Some(Answer::RoundTrip { micros: 5_000 })),
        "clear: A round trip from h1 to h3 takes 5.0 ms."
    );
    assert_eq!(
        says(Some(Answer::RoundTrip { micros: 5_100 })),
        "stop: A round trip from h1 to h3 takes 5.1 ms."
    );
}
