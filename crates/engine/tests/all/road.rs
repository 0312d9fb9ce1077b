//! The whole road: from bare hosts to a machine that answers, and back.

use crate::lab::{Lab, eventually};
use sqlx::PgPool;
use uuid::Uuid;
use zastrugi_core::rooms::{edits, hosts, machines};
use zastrugi_core::{
    estate::{Condition, MachineState},
    moment::Span,
    rooms::Proposal,
    rooms::edits::{Set, Target},
    rooms::machines::{AfterGrace, PowerAct},
    runs::RunState,
};
use zastrugi_engine::{EventFilter, StartError};

#[sqlx::test(migrations = false)]
async fn from_bare_hosts_to_a_machine_that_answers_and_back(pool: PgPool) {
    let lab = Lab::new(&pool, 3).await;
    lab.ready().await;
    assert!(
        lab.estate()
            .clusters
            .values()
            .all(|c| c.ready && c.hosts.len() == 3)
    );
    lab.done(lab.create("gate-{01}", 3, true)).await;
    let gate = lab.machine("gate-02");
    let machine = lab.estate().machines[&gate].clone();
    assert_eq!(machine.state, MachineState::Running { guest: true });
    assert_eq!(
        machine.guest_key.as_ref().map(String::len),
        Some(64),
        "a key of its own"
    );
    let keys: std::collections::BTreeSet<_> = lab
        .estate()
        .machines
        .values()
        .map(|m| m.guest_key.clone())
        .collect();
    assert_eq!(keys.len(), 3);
    let stop = PowerAct::Stop {
        grace: Span::secs(30),
        then: AfterGrace::LeaveOn,
    };
    lab.done(Proposal::Machines(machines::Ask::Power {
        machines: vec![gate],
        act: stop,
    }))
    .await;
    assert_eq!(lab.estate().machines[&gate].state, MachineState::Off);
    let sets = vec![Set::Name("gate-west".into()), Set::VCpus(2)];
    lab.done(Proposal::Edits(edits::Ask::Edit {
        targets: vec![Target::Machine(gate)],
        sets,
    }))
    .await;
    assert_eq!(lab.machine("gate-west"), gate);
    lab.done(Proposal::Machines(machines::Ask::Power {
        machines: vec![gate],
        act: PowerAct::On { host: None },
    }))
    .await;
    assert_eq!(
        lab.estate().machines[&gate].generation,
        2,
        "each start has a higher lease"
    );
    lab.done(Proposal::Machines(machines::Ask::Power {
        machines: vec![gate],
        act: PowerAct::Off,
    }))
    .await;
    lab.done(Proposal::Machines(machines::Ask::Delete {
        machines: vec![gate],
    }))
    .await;
    lab.done(Proposal::Machines(machines::Ask::Recover {
        machines: vec![gate],
        how: Default::default(),
    }))
    .await;
    lab.done(Proposal::Machines(machines::Ask::Delete {
        machines: vec![gate],
    }))
    .await;
    lab.done(Proposal::Machines(machines::Ask::Purge {
        machines: vec![gate],
        typed: "gate-west".into(),
    }))
    .await;
    assert!(lab.estate().machine_named("gate-west").is_none());
    lab.assert_once();
    let told = lab
        .desk
        .events(
            &EventFilter {
                about: gate.to_string(),
                ..EventFilter::default()
            },
            100,
        )
        .await
        .unwrap();
    assert!(
        told.iter()
            .any(|e| e.text == "gate-west was removed for good" && e.who == "lab.admin"),
        "who did what is told"
    );
}

#[sqlx::test(migrations = false)]
async fn a_double_click_makes_one_run(pool: PgPool) {
    let lab = Lab::new(&pool, 1).await;
    let (ask, request) = (lab.claim().await, Uuid::new_v4());
    let start = || lab.desk.start(&lab.admin, ask.clone(), None, request);
    let (a, b) = tokio::join!(start(), start());
    assert_eq!(a.unwrap(), b.unwrap());
    assert_eq!(lab.desk.runs(None, 10).await.unwrap().len(), 1);
}

#[sqlx::test(migrations = false)]
async fn what_got_worse_since_it_was_seen_is_not_started(pool: PgPool) {
    let lab = Lab::new(&pool, 2).await;
    lab.ready().await;
    let ask = lab.create("gate", 1, true);
    let seen = lab.desk.assess(&lab.admin, &ask).seen();
    let (name, chosen) = seen.places[0].clone();
    assert_eq!(name, "gate");
    lab.standins.world.power(&chosen, false);
    eventually("the host counts as lost", || {
        lab.estate()
            .host_named(&chosen)
            .is_some_and(|h| !h.accepts_work())
    })
    .await;
    let refused = lab
        .desk
        .start(&lab.admin, ask, Some(seen), Uuid::new_v4())
        .await;
    assert!(matches!(refused, Err(StartError::Stale(_))), "{refused:?}");
    lab.standins.world.power(&chosen, true);
    eventually("it comes back", || {
        lab.estate()
            .host_named(&chosen)
            .is_some_and(|h| h.condition == Condition::Steady)
    })
    .await;
}

#[sqlx::test(migrations = false)]
async fn a_machine_stopped_from_inside_is_seen_as_off(pool: PgPool) {
    let lab = Lab::new(&pool, 1).await;
    lab.ready().await;
    lab.done(lab.create("gate", 1, true)).await;
    let gate = lab.machine("gate");
    // The power cord: what ran is gone when the host is back.
    lab.standins.world.power("h1", false);
    eventually("the host is lost", || {
        lab.estate().hosts.values().all(|h| !h.accepts_work())
    })
    .await;
    lab.standins.world.power("h1", true);
    eventually("the machine is off", || {
        lab.estate().machines[&gate].state == MachineState::Off
    })
    .await;
}

#[sqlx::test(migrations = false)]
async fn a_host_is_handed_back_and_can_be_claimed_again(pool: PgPool) {
    let lab = Lab::new(&pool, 2).await;
    lab.ready().await;
    let h2 = lab.estate().host_named("h2").unwrap().id;
    lab.done(Proposal::Hosts(hosts::Ask::HandBack { hosts: vec![h2] }))
        .await;
    assert_eq!(lab.estate().hosts.len(), 1);
    let run = lab.done(lab.claim().await).await;
    assert_eq!(run.state, RunState::Done);
    assert_eq!(lab.estate().hosts.len(), 2);
    lab.assert_once();
}
