//! By what a host can be fenced, how that is tried, and what of it counts.

use crate::{put, worse};
use std::sync::Arc;
use zastrugi_core::{
    availability::Survival,
    estate::{
        Array, ArrayCondition, Backing, Bmc, Condition, Controller, Fact, FencingTest, Host, Means,
        Volume,
    },
    evidence::{Answer, EvidenceBook, Probe},
    finding::Offer,
    ids::{ArrayId, HostId, SecretRef, SiteId, VolumeId},
    moment::{Moment, Span},
    road::{Left, Work},
    rooms::{Event, Proposal, Step, hosts, hosts::Ask},
    testkit::{self, Folding, Small, read},
};

const TWO: &str =
    "cluster eider careless\nhost 1 256\nhost 2 256\nhost 3 256\nmachine 7 db 16 on 1";

fn key() -> Option<SecretRef> {
    Some(SecretRef(uuid::Uuid::nil()))
}

fn with_controllers() -> Small {
    let mut small = read(TWO);
    for id in 1..=3 {
        small.alter_host(id, |h| {
            h.bmc = Some(Bmc {
                address: format!("10.1.0.{id}:443"),
                pin: "pin".into(),
                user: "zastrugi".into(),
                key: key(),
            });
        });
        answers(&mut small, id, "On");
    }
    small
}

fn answers(small: &mut Small, host: u64, power: &str) {
    let mut evidence = EvidenceBook::clone(&small.view.evidence);
    let said = Answer::Bmc {
        power: power.into(),
        serial: format!("S{host}"),
    };
    evidence.put(Probe::Bmc(HostId(host)), said, small.now);
    small.view.evidence = evidence.into();
}

fn array(condition: ArrayCondition) -> Array {
    Array {
        controllers: vec![Controller {
            address: "10.2.0.1:443".into(),
            pin: "pin".into(),
            silent: None,
        }],
        user: "zastrugi".into(),
        key: key(),
        serial: "A1".into(),
        condition,
        ..testkit::array(ArrayId(60), "basalt", SiteId(900))
    }
}

fn on_array(small: &mut Small, condition: ArrayCondition) {
    small.alter(|e| {
        e.put(Fact::Array(Arc::new(array(condition))));
        let mut volume = Volume::clone(e.volumes.values().next().unwrap());
        volume.backing = Some(Backing {
            array: ArrayId(60),
            lun: "1".into(),
            pool: "p".into(),
        });
        e.put(Fact::Volume(Arc::new(volume)));
    });
}

fn test(hosts: &[u64]) -> Proposal {
    let hosts = hosts.iter().map(|h| HostId(*h)).collect();
    Proposal::Hosts(Ask::TestFencing { hosts })
}

fn tested(worked: bool, at: Moment) -> FencingTest {
    FencingTest {
        at,
        worked,
        said: "its controller refused".into(),
    }
}

fn host(small: &Small, id: u64) -> Arc<Host> {
    small.view.estate.hosts[&HostId(id)].clone()
}

/// If this fails, a cluster counts on a proof that nobody can give, or waits for a person although nobody need come.
#[test]
fn means_are_what_can_be_had_now_best_first_and_the_time_of_a_failure_follows_from_the_first() {
    let mut small = read(TWO);
    let means = |small: &Small| small.view.estate.means(&host(small, 1));
    let time = |small: &Small| {
        let cluster = small.view.estate.clusters.values().next().unwrap();
        let answer = Survival::of(&small.view, cluster);
        let row = answer
            .matrix
            .rows
            .iter()
            .find(|r| r.domain.words() == "h1")
            .unwrap();
        (row.time, row.waits.len())
    };
    assert_eq!(means(&small), []);
    assert_eq!(
        time(&small),
        (Span::secs(75), 1),
        "detection and a boot; and it waits for a person"
    );
    small.alter_host(1, |h| h.watchdog = true);
    assert_eq!(
        (means(&small), time(&small)),
        (vec![Means::Watchdog], (Span::secs(150), 0))
    );
    on_array(&mut small, ArrayCondition::Steady);
    assert_eq!(
        (means(&small), time(&small)),
        (vec![Means::Storage, Means::Watchdog], (Span::secs(89), 0))
    );
    let lost = ArrayCondition::Lost {
        since: Moment(1),
        why: "silent".into(),
    };
    on_array(&mut small, lost);
    assert_eq!(
        means(&small),
        [Means::Watchdog],
        "an array that answers nothing shuts nobody out"
    );
    let mut small = with_controllers();
    assert_eq!(
        (means(&small), time(&small)),
        (vec![Means::Controller], (Span::secs(81), 0))
    );
    small.alter_host(1, |h| h.fencing = Some(tested(false, Moment(1))));
    assert_eq!(means(&small), [], "one that failed its test doesn't count");
    // A volume of which no array is known: nobody can shut the host out of that one.
    on_array(&mut small, ArrayCondition::Steady);
    assert_eq!(means(&small), [Means::Storage]);
    small.alter(|e| {
        let mut other = Volume::clone(e.volumes.values().next().unwrap());
        (other.id, other.uid, other.backing) = (VolumeId(77), "other".into(), None);
        e.put(Fact::Volume(Arc::new(other)));
    });
    small.alter_host(1, |h| {
        let paths = h.mounts.values().next().unwrap().clone();
        h.mounts.insert(VolumeId(77), paths);
    });
    assert_eq!(means(&small), []);
}

#[test]
fn what_was_never_tested_failed_or_is_half_a_year_old_is_said() {
    let mut small = with_controllers();
    let now = Moment(0).plus(Span::days(400));
    let said = |small: &Small| host(small, 1).untested(now);
    assert!(said(&small).unwrap().contains("never tested"));
    small.alter_host(1, |h| {
        h.fencing = Some(tested(true, now.before(Span::days(179))))
    });
    assert_eq!(said(&small), None);
    small.alter_host(1, |h| {
        h.fencing = Some(tested(true, now.before(Span::days(180))))
    });
    assert!(
        said(&small).unwrap().contains("180 days ago"),
        "{:?}",
        said(&small)
    );
    small.alter_host(1, |h| h.fencing = Some(tested(false, now)));
    assert!(said(&small).unwrap().contains("its controller refused"));
    small.alter_host(1, |h| h.bmc = None);
    assert_eq!(said(&small), None, "what it doesn't have is not tested");
}

/// If this fails, a test takes machines down, or two hosts are down for it at once.
#[test]
fn only_what_runs_nothing_is_tested_one_after_the_other() {
    let mut small = with_controllers();
    let said = put(&small, &test(&[1, 2, 3]));
    let stop = said.findings().iter().find(|f| f.stops()).unwrap();
    assert_eq!(
        (stop.subject.as_str(), stop.evidence.as_str()),
        ("h1", "db")
    );
    assert_eq!(stop.offers, [Offer::Empty(HostId(1))]);
    let said = put(&small, &test(&[2, 3]));
    assert!(!said.blocked(), "{:?}", worse(&said));
    let steps: Vec<_> = said
        .steps()
        .iter()
        .map(|p| (p.title.clone(), p.after.clone()))
        .collect();
    assert_eq!(
        steps,
        [
            ("Switch h2 off and prove it".to_owned(), vec![]),
            ("Switch h2 on".to_owned(), vec![0]),
            ("Wait until h2 answers".to_owned(), vec![1]),
            ("Switch h3 off and prove it".to_owned(), vec![2]),
            ("Switch h3 on".to_owned(), vec![3]),
            ("Wait until h3 answers".to_owned(), vec![4]),
        ]
    );
    small.alter_host(2, |h| {
        h.condition = Condition::Off {
            since: Moment(1),
            proof: "a person declared so".into(),
        }
    });
    answers(&mut small, 2, "Off");
    let said = put(&small, &test(&[2]));
    assert_eq!(said.steps().len(), 1, "what is off stays off");
    small.alter_host(2, |h| {
        h.condition = Condition::Lost {
            since: Moment(1),
            why: "silent".into(),
        }
    });
    assert!(worse(&put(&small, &test(&[2])))[0].contains("what it runs is not known"));
}

/// If this fails, a controller that refused counts as tested, or a test that was cancelled before it began as failed.
#[test]
fn a_refusal_is_the_result_of_a_test_and_a_test_that_never_was_is_none() {
    let mut small = with_controllers();
    let step = hosts::Step::TestOff {
        host: HostId(2),
        at: Moment(9),
    };
    let estate = &small.view.estate;
    assert_eq!(step.undo(estate, Left::Undone { said: None }), None);
    let said = Some("the action is not there.".to_owned());
    let event = step.undo(estate, Left::Undone { said }).unwrap();
    let event = Event::Hosts(event);
    small.alter(|e| drop(e.absorb(&event)));
    let kept = host(&small, 2).fencing.clone().unwrap();
    assert_eq!(
        (kept.at, kept.worked, kept.said.as_str()),
        (Moment(9), false, "the action is not there")
    );
    assert!(matches!(
        Step::Hosts(step).group(),
        "switch off, prove it, keep what came of it"
    ));
}
