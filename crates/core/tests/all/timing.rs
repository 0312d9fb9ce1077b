//! Whom new hosts ask for the time: what is said of each source before anything is installed.

use crate::bare::{build, told};
use zastrugi_core::{
    evidence::{Answer, Probe},
    finding::Severity,
    permits::{Permits, Role},
    rooms::{
        Proposal, Step, assess,
        building::{self, Ask, Build},
        clusters,
        installing::at_source,
    },
};

fn said(typed: &[&str], answers: &[(&str, Answer)]) -> Vec<(Severity, String)> {
    let mut b: Build = build(3);
    b.install.time = typed.iter().map(|t| (*t).into()).collect();
    let mut small = told(&b, |_, _| {});
    let mut book = (*small.view.evidence).clone();
    for (source, answer) in answers {
        book.put(Probe::Time((*source).to_owned()), answer.clone(), small.now);
    }
    small.view.evidence = book.into();
    let ask = Proposal::Building(Ask::Build(Box::new(b)));
    let said = assess(&small.view, &Permits::of(Role::Admin), &ask, small.now);
    let at = said
        .findings()
        .iter()
        .filter(|f| f.field.as_deref() == Some("time") || f.subject.contains(":123"));
    at.map(|f| (f.severity, f.text.clone())).collect()
}

fn off(ms: i64) -> Answer {
    Answer::Clock { offset_ms: ms }
}

/// If this fails, hosts are given a clock that is wrong, or one that nobody knows is taken for right.
#[test]
fn each_source_is_asked_before_a_host_is_told_of_it() {
    let one = |typed: &[&str], answers: &[(&str, Answer)], severity, words: &str| {
        let all = said(typed, answers);
        let hit = all
            .iter()
            .any(|(s, text)| *s == severity && text.contains(words));
        assert!(hit, "{severity:?}: {words}\n{all:#?}");
    };
    let (a, b) = ("10.1.2.9:123", "10.1.2.8:123");
    one(&[], &[], Severity::Mind, "Nobody tells the hosts the time");
    one(&["10.1.2.9"], &[], Severity::Unchecked, "was not asked yet");
    one(
        &["10.1.2.9"],
        &[(a, off(-40))],
        Severity::Clear,
        "tells the time",
    );
    one(
        &["10.1.2.9"],
        &[(a, off(3_000))],
        Severity::Stop,
        "3000 ms ahead of",
    );
    one(
        &["10.1.2.9"],
        &[(a, off(-101))],
        Severity::Stop,
        "101 ms behind",
    );
    let why = "nobody answers".into();
    one(
        &["10.1.2.9"],
        &[(a, Answer::Silent { why })],
        Severity::Stop,
        "gives no answer: nobody answers",
    );
    one(
        &["clock.example"],
        &[],
        Severity::Stop,
        "“clock.example” is no address",
    );
    // Each within what is taken, and yet too far from one another.
    let both = [(a, off(-90)), (b, off(90))];
    one(
        &["10.1.2.9", "10.1.2.8"],
        &both,
        Severity::Stop,
        "180 ms apart",
    );
    one(&["10.1.2.9"; 5], &[], Severity::Stop, "5 time sources");
}

#[test]
fn a_source_is_an_address_with_the_usual_port() {
    assert_eq!(at_source(" 10.1.2.9 ").as_deref(), Some("10.1.2.9:123"));
    assert_eq!(at_source("10.1.2.9:1123").as_deref(), Some("10.1.2.9:1123"));
    assert_eq!(at_source("fd00::9").as_deref(), Some("[fd00::9]:123"));
    assert_eq!(at_source("tide"), None);
}

/// If this fails, a host joins whose clock nobody looked at.
#[test]
fn a_host_that_is_told_whom_to_ask_joins_only_once_its_clock_is_right() {
    let mut b = build(2);
    b.install.time = vec!["10.1.2.9".into()];
    let small = told(&b, |_, _| {});
    let ask = Proposal::Building(Ask::Build(Box::new(b)));
    let said = assess(&small.view, &Permits::of(Role::Admin), &ask, small.now);
    let clock = |step: &Step| match step {
        Step::Building(building::Step::Cluster(clusters::Step::Clock { host })) => Some(*host),
        _ => None,
    };
    let mut joins = 0;
    for planned in said.steps() {
        if let Step::Building(building::Step::Cluster(clusters::Step::Join { host, .. })) =
            &planned.step
        {
            let waits = planned
                .after
                .iter()
                .any(|n| clock(&said.steps()[*n].step) == Some(*host));
            assert!(waits, "{}", planned.title);
            joins += 1;
        }
    }
    assert_eq!(joins, 2);
}
