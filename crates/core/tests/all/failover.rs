//! Failovers: what a dead site is asked, which points machines go on from, and what becomes of that which was superseded.

use crate::{
    drilling::before,
    handover::{DB, LEADS, cross, marked},
    plans::{PLAN, fleet, plan, proof, put, stage},
    pledges::{HOUR, NOW, on},
    replicas::{HERE, JOB, REPLICA, assessed, replicated, stops},
};
use std::{collections::BTreeMap, sync::Arc};
use uuid::Uuid;
use zastrugi_core::{
    estate::{Came, Condition, Fact, Host, Job, MachineState, Pen, Snapshot},
    ids::{HostId, MachineId},
    moment::Span,
    road::{Tale, Work},
    rooms::{
        Assessment, Proposal, Step,
        backups::JobRun,
        handover::{self, Failover, Which},
        machines, replicas, replicating, snapshots,
    },
    testkit::Small,
};

fn failover(which: Which, typed: &str) -> Proposal {
    Proposal::Handover(handover::Ask::Failover(Failover {
        plan: PLAN,
        which,
        typed: typed.into(),
    }))
}

/// Its hosts here have not answered for a while.
fn silent(small: &mut Small) {
    for id in [1, 2] {
        small.alter(|e| {
            let mut h = Host::clone(&e.hosts[&HostId(id)]);
            h.condition = Condition::Lost {
                since: NOW.before(Span::mins(5)),
                why: "no answer".into(),
            };
            e.put(Fact::Host(Arc::new(h)));
        });
    }
}

/// The point that each member goes on from.
fn goes_on_from(said: &Assessment) -> BTreeMap<MachineId, Uuid> {
    let over = said.steps().iter().find_map(|s| match &s.step {
        Step::Handover(handover::Step::Replica(replicas::Step::Over {
            members, forced, ..
        })) => {
            assert!(forced);
            Some(members.clone())
        }
        _ => None,
    });
    let all = over.unwrap_or_default();
    all.iter().map(|m| (m.machine, m.point)).collect()
}

/// If this fails, a dead site is asked for anything, somebody fails over who typed something else, or nobody hears what is lost.
#[test]
fn nothing_of_a_dead_site_is_asked_and_what_is_lost_is_said() {
    let mut small = fleet(2);
    put(
        &mut small,
        plan(vec![stage("stores", &[7]), stage("fronts", &[100, 101])]),
    );
    silent(&mut small);
    let said = assessed(&small, &failover(Which::Newest, "Hilltop"));
    assert_eq!(stops(&said)[0].field.as_deref(), Some("typed"));
    let here = small.view.estate.sites[&HERE].name.clone();
    let said = assessed(&small, &failover(Which::Newest, &here));
    assert!(stops(&said).is_empty(), "{:?}", stops(&said));
    for step in said.steps() {
        let at = step.step.device(&small.view.estate);
        let dead = [1, 2].map(|h| Some(zastrugi_core::runs::Object::Host(HostId(h))));
        assert!(!dead.contains(&at), "{}", step.title);
    }
    let texts: Vec<&str> = said.findings().iter().map(|f| f.text.as_str()).collect();
    for words in [
        "originals may still run",
        "db goes on as it was",
        "web-1 goes on as it was",
    ] {
        assert!(
            texts.iter().any(|t| t.contains(words)),
            "{words}: {texts:?}"
        );
    }
    assert_eq!(goes_on_from(&said).len(), 3);
    // Where they answer, they are powered off first.
    let mut alive = fleet(0);
    put(&mut alive, plan(vec![stage("stores", &[7])]));
    let said = assessed(&alive, &failover(Which::Newest, &here));
    let kinds: Vec<bool> = said.steps().iter().map(|s| matches!(&s.step, Step::Handover(handover::Step::Machine(machines::Step::Off { machine })) if *machine == DB)).collect();
    let off = kinds.iter().position(|k| *k).expect("it is powered off");
    let over = said
        .steps()
        .iter()
        .position(|s| {
            matches!(
                &s.step,
                Step::Handover(handover::Step::Replica(replicas::Step::Over { .. }))
            )
        })
        .unwrap();
    assert!(before(&said)[over].contains(&off));
    assert!(
        said.findings()
            .iter()
            .any(|f| f.text.contains("A planned move would lose nothing"))
    );
}

/// If this fails, a machine goes on from a point of which a copy did not come up, or two that belong together from different instants.
#[test]
fn each_goes_on_from_its_newest_good_point_and_groups_from_one_instant() {
    let mut small = replicated(&[Span::days(2), Span::days(1), HOUR]);
    put(&mut small, plan(vec![stage("stores", &[7])]));
    silent(&mut small);
    let here = small.view.estate.sites[&HERE].name.clone();
    let chosen = |small: &Small, which| {
        goes_on_from(&assessed(small, &failover(which, &here)))
            .get(&DB)
            .copied()
    };
    let at = |n: u128| Some(Uuid::from_u128(n));
    assert_eq!(chosen(&small, Which::Newest), at(3));
    let prove = |small: &mut Small, n: usize, came| {
        on(small, REPLICA.0, |m| {
            if let Some(r) = &mut m.replica {
                r.points[n].proof = Some(Box::new(proof(came)));
            }
        });
    };
    prove(&mut small, 2, Came::Silent);
    assert_eq!(
        chosen(&small, Which::Newest),
        at(2),
        "of that one a copy did not come up"
    );
    prove(&mut small, 0, Came::Up);
    assert_eq!(chosen(&small, Which::Newest), at(2));
    assert_eq!(chosen(&small, Which::Proven), at(1));
    let said = assessed(&small, &failover(Which::Proven, &here));
    let goes_back = said.steps().iter().any(|s| matches!(&s.step, Step::Handover(handover::Step::Snap(snapshots::Step::Back { machine, to, .. })) if *machine == REPLICA && Some(*to) == at(1)));
    assert!(goes_back, "its replica holds something newer");

    // Two that share an instant: the newest that both have.
    let mut two = fleet(1);
    put(&mut two, plan(vec![stage("stores", &[7, 100])]));
    silent(&mut two);
    two.alter(|e| {
        let mut job = Job::clone(&e.jobs[&JOB]);
        job.how.together = Some("app".into());
        e.put(Fact::Job(Arc::new(job)));
    });
    for id in [7, 100] {
        on(&mut two, id, |m| {
            drop(m.labels.insert("app".into(), "ledger".into()))
        });
    }
    let shared = Uuid::from_u128(77);
    for (id, extra) in [(20, true), (200, false)] {
        on(&mut two, id, |m| {
            let Some(r) = &mut m.replica else { return };
            r.points[0].group = Some(shared);
            if extra {
                let newer = zastrugi_core::estate::StoredPoint {
                    session: Uuid::from_u128(50),
                    taken: NOW.before(Span::mins(5)),
                    group: Some(Uuid::from_u128(78)),
                    ..r.points[0].clone()
                };
                m.snapshots.take(Snapshot {
                    uuid: newer.session,
                    taken: newer.taken,
                    ..m.snapshots.all[0].clone()
                });
                r.points.push(newer);
            }
        });
    }
    let all = goes_on_from(&assessed(&two, &failover(Which::Newest, &here)));
    assert_eq!(
        all[&DB],
        Uuid::from_u128(1),
        "the other has nothing of the newer instant"
    );
}

/// If this fails, what was superseded follows as if it held what its points say, or is written over before anybody has looked.
#[test]
fn what_was_superseded_is_kept_aside_until_it_is_taken_up() {
    let mut small = replicated(&[HOUR]);
    put(&mut small, plan(vec![stage("stores", &[7])]));
    let event = replicas::Event::Crossed {
        machine: DB,
        replica: REPLICA,
        way: LEADS,
        behind: "db-quayside".into(),
        forced: true,
    };
    small.alter(|e| event.absorb(&mut Pen::on(e)));
    let left = small.view.estate.machines[&REPLICA].clone();
    assert!(left.is_off() && left.follows().is_none());
    assert!(left.replica.as_ref().unwrap().astray);
    let run = JobRun {
        job: JOB,
        by_hand: true,
    };
    let said = assessed(&small, &Proposal::Replicating(replicating::Ask::Job(run)));
    assert!(said.steps().is_empty());
    assert!(
        said.findings()
            .iter()
            .any(|f| f.text.contains("kept aside")),
        "{:?}",
        said.findings()
    );
    // It is seen running: off at once, and by nothing else.
    let lay = Proposal::Handover(handover::Ask::Lay {
        machines: vec![REPLICA],
    });
    assert!(assessed(&small, &lay).steps().is_empty(), "it is off");
    on(&mut small, REPLICA.0, |m| {
        m.state = MachineState::Running { guest: true };
        m.host = Some(HostId(1));
    });
    let said = assessed(&small, &lay);
    assert!(
        matches!(&said.steps()[0].step, Step::Handover(handover::Step::Machine(machines::Step::Off { machine })) if *machine == REPLICA)
    );
    let clear = Proposal::Handover(handover::Ask::Clear {
        machines: vec![REPLICA],
    });
    assert!(!stops(&assessed(&small, &clear)).is_empty(), "it is on");
    on(&mut small, REPLICA.0, |m| {
        m.state = MachineState::Off;
        m.host = None;
    });
    let said = assessed(&small, &clear);
    assert!(stops(&said).is_empty(), "{:?}", stops(&said));
    assert_eq!(
        said.steps().len(),
        3,
        "held fast, called by its name, followed"
    );
    // A machine that nothing superseded is none of it.
    let other = Proposal::Handover(handover::Ask::Clear { machines: vec![DB] });
    assert!(!stops(&assessed(&small, &other)).is_empty());
}

/// If this fails, what was left by a move and ran all the same is written over from a point that it holds no more.
#[test]
fn a_replica_that_was_seen_running_holds_none_of_its_points() {
    let mut small = replicated(&[HOUR]);
    marked(&mut small, 7, 1);
    cross(&mut small, LEADS, (DB, REPLICA), "db-quayside");
    assert!(small.view.estate.machines[&REPLICA].follows().is_some());
    let seen = |state, host| machines::Event::Seen {
        machine: REPLICA,
        state,
        host,
        generation: 1,
        as_of: None,
    };
    let on = seen(MachineState::Running { guest: true }, Some(HostId(1)));
    small.alter(|e| on.absorb(&mut Pen::on(e)));
    let off = seen(MachineState::Off, None);
    small.alter(|e| off.absorb(&mut Pen::on(e)));
    let left = &small.view.estate.machines[&REPLICA];
    assert!(left.is_off() && left.follows().is_none());
    assert!(left.replica.as_ref().unwrap().astray, "it is kept aside");
}
