//! Replicas that are proven: a copy of what one has is booted at its site, and counts for promises as one of a store does; and what
//! came over is looked at like what went to a store.

use crate::{
    pledges::{HOUR, NOW, on},
    replicas::{JOB, REPLICA, assessed, job, pledge, replicated, stops},
};
use std::sync::Arc;
use uuid::Uuid;
use zastrugi_core::{
    estate::{AnyPoint, Came, Clauses, Fact, Job, Pledge, Proof},
    finding::Rule,
    ids::{ClusterId, MachineId},
    moment::{Moment, Span},
    pledges::{Promise, Sort, Standing},
    rooms::{Event, Proposal, answers, proving},
    testkit::Small,
    units::Bytes,
};

fn proved(small: &Small) -> (Standing, String) {
    let estate = &small.view.estate;
    let promise = Promise::of(estate, &estate.machines[&MachineId(7)], NOW).unwrap();
    let judged = promise.of_sort(Sort::Proved).unwrap();
    (judged.standing, judged.why.clone())
}

/// If this fails, nobody finds out whether a replica comes up; or the copy runs elsewhere, on a network that others hear, or follows
/// the original like the replica.
#[test]
fn a_point_of_a_replica_is_proven_at_its_site() {
    let mut small = replicated(&[Span::mins(120), HOUR]);
    let at = AnyPoint::Replicated {
        replica: REPLICA,
        session: Uuid::from_u128(2),
    };
    assert_eq!(at.to_string().parse(), Ok(at), "as it stands in addresses");
    let ask = |point, cluster| {
        Proposal::Proving(proving::Ask::Point(proving::ProvePoint {
            point: Some(point),
            cluster,
            limit: Span::mins(2),
            together: false,
        }))
    };
    let far = assessed(&small, &ask(at, Some(ClusterId(901))));
    assert!(
        stops(&far)[0].text.contains("Eider") || stops(&far)[0].text.contains("don't mount"),
        "{:?}",
        stops(&far)
    );
    let said = assessed(&small, &ask(at, None));
    assert!(stops(&said).is_empty(), "{:?}", stops(&said));
    small.begin(said.accept().unwrap());
    let estate = &small.view.estate;
    let copy = estate.proving().next().unwrap();
    assert_eq!(copy.name, "proof-db");
    assert_eq!(
        (copy.cluster, copy.proves.as_deref()),
        (Some(ClusterId(902)), Some(&at))
    );
    assert!(copy.replica.is_none() && copy.labels.is_empty() && !copy.restarts);
    assert!(copy.nics.iter().all(|n| n.network.is_none()));
    let gone = AnyPoint::Replicated {
        replica: REPLICA,
        session: Uuid::from_u128(9),
    };
    assert_eq!(
        stops(&assessed(&small, &ask(gone, None)))[0].rule,
        Rule::Exists
    );
}

/// If this fails, a promise of proven copies rests on nothing that replicas prove, or the newest is tried again and again.
#[test]
fn what_a_replica_proved_counts_and_is_not_due_again() {
    let due = |small: &Small| small.view.estate.to_prove(NOW);
    let mut small = replicated(&[Span::mins(120), HOUR]);
    assert!(due(&small).is_empty(), "the job proves nothing");
    small.alter(|e| {
        let job = Job {
            proves: Some(Span::days(7)),
            ..job("last 2")
        };
        e.put(Fact::Job(Arc::new(job)));
    });
    let at = AnyPoint::Replicated {
        replica: REPLICA,
        session: Uuid::from_u128(2),
    };
    assert_eq!(due(&small), [(JOB, at)], "the newest");
    small.alter(|e| {
        let clauses = Clauses {
            proved: Some(Span::days(30)),
            ..Clauses::default()
        };
        e.put(Fact::Pledge(Arc::new(Pledge {
            clauses,
            ..pledge(Span::days(1))
        })));
    });
    assert_eq!(proved(&small).0, Standing::Broken);
    let proof = |at: Moment, came| Proof {
        at,
        host: "h3".into(),
        copy: "proof-db".into(),
        took: Span::secs(70),
        booted: Span::secs(30),
        came,
        said: String::new(),
        replies: vec![],
        with: vec![],
        picture: None,
    };
    let tried = |small: &mut Small, n: u128, proof: Proof| {
        small.fold(&[Event::Answers(answers::Event::Tried {
            machine: MachineId(99),
            point: Some(AnyPoint::Replicated {
                replica: REPLICA,
                session: Uuid::from_u128(n),
            }),
            proof: Box::new(proof),
        })]);
    };
    tried(&mut small, 2, proof(NOW, Came::Up));
    assert!(due(&small).is_empty());
    let (stands, why) = proved(&small);
    assert_eq!(stands, Standing::Kept, "{why}");
    let replica = &small.view.estate.machines[&REPLICA];
    assert!(replica.replicated().next_back().unwrap().proof.is_some());
    tried(&mut small, 2, proof(NOW, Came::Silent));
    assert_eq!(proved(&small).0, Standing::Broken);
}

/// If this fails, whoever encrypts a machine that is only replicated does it unseen.
#[test]
fn an_unusual_change_of_a_replica_is_seen() {
    let ages: Vec<Span> = (1..=6).rev().map(Span::days).collect();
    let mut small = replicated(&ages);
    let unusual = |small: &Small| {
        let estate = &small.view.estate;
        estate
            .unusual_replica(&estate.machines[&REPLICA])
            .map(|u| u.words())
    };
    assert_eq!(unusual(&small), None);
    on(&mut small, REPLICA.0, |m| {
        let newest = m.replica.as_mut().unwrap().points.last_mut().unwrap();
        newest.read = Bytes::gib(40);
    });
    let words = unusual(&small).unwrap();
    assert!(words.contains("40") && words.contains("usual"), "{words}");
}
