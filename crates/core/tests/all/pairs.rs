//! Pairs of sites: what is found of both sides, what may be kept, and since when one does not carry.

use crate::{
    pledges::{HOUR, NOW},
    replicas::{HERE, PAIR, THERE, assessed, pair, paired, sites, stops},
};
use std::sync::Arc;
use zastrugi_core::{
    estate::{Cluster, Fact},
    evidence::{Answer, EvidenceBook, Probe},
    finding::{Finding, Rule, Severity},
    ids::{ClusterId, HostId, NetworkId, PairId, VolumeId},
    limits,
    moment::Moment,
    pairing,
    rooms::{
        Event, Proposal,
        pairs::{self, Keep, KeepEnd},
    },
    testkit::{self, Small},
    units::Rate,
};

/// From, to, and how long a round trip took in microseconds or why there was none.
type Tried = ((u64, u64), Result<u64, &'static str>);

fn answers(small: &mut Small, all: &[Tried]) {
    let mut book = EvidenceBook::clone(&small.view.evidence);
    for ((from, to), said) in all {
        let probe = Probe::RoundTrip {
            from: HostId(*from),
            to: HostId(*to),
        };
        let answer = match said {
            Ok(micros) => Answer::RoundTrip { micros: *micros },
            Err(why) => Answer::Silent {
                why: (*why).to_owned(),
            },
        };
        book.put(probe, answer, NOW);
    }
    for id in 1..=4 {
        book.put(
            Probe::Clock(HostId(id)),
            Answer::Clock { offset_ms: 3 },
            NOW,
        );
    }
    small.view.evidence = book.into();
}

const WAYS: [(u64, u64); 8] = [
    (1, 3),
    (1, 4),
    (2, 3),
    (2, 4),
    (3, 1),
    (3, 2),
    (4, 1),
    (4, 2),
];

/// What is found where these ways are closed, in the one direction.
fn found(closed: &[(u64, u64)], about: &str) -> Finding {
    let mut small = paired();
    let all = WAYS.map(|w| {
        let said = match closed.contains(&w) {
            true => Err("timed out"),
            false => Ok(400),
        };
        (w, said)
    });
    answers(&mut small, &all);
    let found = pairing::look(&small.view, &pair(), NOW);
    let reach = found.into_iter().filter(|f| f.rule == Rule::Reachable);
    let mut of = reach.filter(|f| f.subject.contains(about));
    of.next().unwrap()
}

/// If this fails, somebody looks for a closed port at the wrong site, or a pair that was never tried looks right.
#[test]
fn what_is_closed_is_told_with_its_side() {
    let small = paired();
    let untried = pairing::look(&small.view, &pair(), NOW);
    let reach: Vec<&Finding> = untried
        .iter()
        .filter(|f| f.rule == Rule::Reachable)
        .collect();
    assert!(reach.len() == 2 && reach.iter().all(|f| f.severity == Severity::Unchecked));
    let fine = found(&[], "Quayside to Hilltop");
    assert_eq!(fine.severity, Severity::Clear);
    assert!(fine.text.contains("0.4 ms"), "{}", fine.text);
    // One that can't be reached, while others there can.
    let into = found(&[(1, 4), (2, 4)], "Hilltop");
    assert!(
        into.text.contains("h4 at Hilltop can't be reached"),
        "{}",
        into.text
    );
    assert_eq!(
        (into.severity, into.subject.as_str()),
        (Severity::Mind, "Hilltop")
    );
    // One that gets nowhere, while others do.
    let out = found(&[(2, 3), (2, 4)], "Quayside");
    assert!(
        out.text.contains("h2 at Quayside reaches nothing"),
        "{}",
        out.text
    );
    assert_eq!(out.subject, "Quayside");
    // All of one direction: the other is right.
    let one_way = found(&[(1, 3), (1, 4), (2, 3), (2, 4)], "Hilltop");
    assert_eq!(one_way.severity, Severity::Stop);
    assert!(
        one_way
            .text
            .contains("Hilltop lets nothing in, or Quayside nothing out"),
        "{}",
        one_way.text
    );
    let both = found(&WAYS, "Quayside to Hilltop");
    assert!(
        both.text
            .ends_with("No host at Quayside reaches one at Hilltop."),
        "{}",
        both.text
    );
}

/// If this fails, a pair looks as if all were well while machines would find no network, no processor or no software at the other site.
#[test]
fn what_is_not_alike_at_both_sites_is_told() {
    let mut small = paired();
    answers(&mut small, &WAYS.map(|w| (w, Ok(400))));
    let texts = |small: &Small| -> Vec<String> {
        let all = pairing::look(&small.view, &pair(), NOW);
        let bad = all.into_iter().filter(|f| f.severity != Severity::Clear);
        bad.map(|f| f.text).collect()
    };
    assert_eq!(texts(&small), Vec::<String>::new());
    small.alter(|e| {
        let mut net = testkit::network(NetworkId(30), "crew");
        net.uplinks = ["uplink-1".to_owned()].into();
        e.put(Fact::Network(Arc::new(net)));
    });
    small.alter_host(3, |h| h.software = "4.1.9".into());
    small.alter(|e| {
        let mut c = Cluster::clone(&e.clusters[&ClusterId(902)]);
        c.cpu_level = zastrugi_core::estate::PsabiLevel::V1;
        e.put(Fact::Cluster(Arc::new(c)));
    });
    let said = texts(&small);
    for words in [
        "Hilltop has nothing for crew of Quayside",
        "run 4.1.9, older than 4.2.1 on eider",
        "fulmar at Hilltop offers less",
    ] {
        assert!(said.iter().any(|t| t.contains(words)), "{words}: {said:?}");
    }
    assert_eq!(said.len(), 3, "each once, at its side: {said:?}");
    small.alter_host(4, |h| {
        h.condition = zastrugi_core::estate::Condition::Lost {
            since: NOW,
            why: "silent".into(),
        };
    });
    assert!(
        texts(&small)
            .iter()
            .any(|t| t.contains("One host alone carries at Hilltop"))
    );
}

fn keep(edit: impl FnOnce(&mut Keep)) -> Proposal {
    let end = |site, carriers: [u64; 2]| KeepEnd {
        site: Some(site),
        carriers: carriers.map(HostId).into(),
        network: None,
        cap: "".into(),
    };
    let mut keep = Keep {
        pair: None,
        name: "narrows".into(),
        ends: [end(HERE, [1, 2]), end(THERE, [3, 4])],
        zone: "UTC".into(),
        squeezed: false,
        clusters: "eider = fulmar".into(),
        volumes: "slab-951 > slab-952".into(),
        networks: "".into(),
    };
    edit(&mut keep);
    Proposal::Pairs(pairs::Ask::Keep(Box::new(keep)))
}

/// If this fails, a pair is kept that can't carry, or what somebody typed is refused without words at its field.
#[test]
fn a_pair_is_kept_with_two_hosts_a_side_and_what_is_what() {
    let mut small = sites();
    let fields = |edit: &dyn Fn(&mut Keep)| -> Vec<String> {
        let said = assessed(&small, &keep(|k| edit(k)));
        stops(&said)
            .iter()
            .filter_map(|f| f.field.clone())
            .collect()
    };
    assert_eq!(fields(&|_| {}), Vec::<String>::new());
    assert_eq!(fields(&|k| k.name = "".into()), ["name"]);
    assert_eq!(
        fields(&|k| k.ends[1].site = Some(HERE)),
        ["b_carriers", "b_carriers", "b_site"]
            .map(str::to_owned)
            .into_iter()
            .rev()
            .collect::<Vec<_>>()
    );
    assert_eq!(fields(&|k| k.ends[0].carriers.truncate(1)), ["a_carriers"]);
    assert_eq!(fields(&|k| k.ends[0].cap = "much".into()), ["a_cap"]);
    assert_eq!(fields(&|k| k.zone = "Atlantis".into()), ["zone", "zone"]);
    assert_eq!(
        fields(&|k| k.clusters = "eider = tern".into()),
        ["clusters"]
    );
    assert_eq!(fields(&|k| k.clusters = "".into()), ["clusters"]);
    assert_eq!(
        fields(&|k| k.volumes = "slab-952 = slab-951".into()),
        ["volumes"],
        "each at its own site"
    );
    let said = assessed(
        &small,
        &keep(|k| k.ends[0].cap = "10 MiB/s; Sa,Su all".into()),
    );
    small.begin(said.accept().unwrap());
    let made = small.view.estate.pair_named("narrows").unwrap().clone();
    let [a, b] = &made.ends;
    assert_eq!(b.clusters, [(ClusterId(901), ClusterId(902))].into());
    assert_eq!(a.clusters, [(ClusterId(902), ClusterId(901))].into());
    assert_eq!(b.volumes, [(VolumeId(951), VolumeId(952))].into());
    assert!(a.volumes.is_empty(), "one way only");
    assert_eq!(a.cap.least(), Some(Rate(10 << 20)));
    let again = assessed(
        &small,
        &keep(|k| {
            k.pair = Some(made.id);
            k.ends[0].cap = "10 MiB/s; Sa,Su all".into();
        }),
    );
    assert!(
        stops(&again).iter().any(|f| f.rule == Rule::Nothing),
        "{:?}",
        stops(&again)
    );
    let remove = |typed: &str| {
        Proposal::Pairs(pairs::Ask::Remove {
            pair: made.id,
            typed: typed.into(),
        })
    };
    assert_eq!(stops(&assessed(&small, &remove("narrow"))).len(), 1);
    assert!(stops(&assessed(&small, &remove("narrows"))).is_empty());
}

/// If this fails, there are more pairs, or longer lists of what is what, than anybody looks after.
#[test]
fn there_are_no_more_pairs_and_lines_than_the_limits_say() {
    let mut small = sites();
    small.alter(|e| {
        for n in 0..limits::PAIRS.most as u64 {
            let mut p = pair();
            p.id = PairId(2000 + n);
            p.name = format!("p{n}");
            e.put(Fact::Pair(Arc::new(p)));
        }
    });
    let said = assessed(&small, &keep(|_| {}));
    assert!(
        stops(&said)
            .iter()
            .any(|f| f.rule == Rule::Count && f.text.contains("50 are taken"))
    );
    let lines = "x = y\n".repeat(limits::MAPS.most + 1);
    let said = assessed(&sites(), &keep(|k| k.networks = lines.as_str().into()));
    let texts: Vec<_> = stops(&said)
        .iter()
        .map(|f| (f.field.clone(), f.text.clone()))
        .collect();
    let named = |(field, text): &(Option<String>, String)| {
        field.as_deref() == Some("networks") && text.contains("500 are taken")
    };
    assert!(texts.iter().any(named), "{texts:?}");
}

/// If this fails, a pair that stops carrying is told again and again, or since a wrong time.
#[test]
fn trouble_is_since_it_began() {
    let mut small = paired();
    let tried = |at: Moment, trouble: Option<&str>| {
        Event::Pairs(pairs::Event::Tried {
            pair: PAIR,
            at,
            trouble: trouble.map(str::to_owned),
        })
    };
    small.fold(&[tried(NOW, Some("closed"))]);
    small.fold(&[tried(NOW.plus(HOUR), Some("closed and late"))]);
    let trouble = small.view.estate.pairs[&PAIR].trouble.clone().unwrap();
    assert_eq!(
        (trouble.since, trouble.text.as_str()),
        (NOW, "closed and late")
    );
    small.fold(&[tried(NOW.plus(HOUR), None)]);
    assert_eq!(small.view.estate.pairs[&PAIR].trouble, None);
}
