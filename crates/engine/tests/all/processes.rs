//! Several processes on one database.

use crate::lab::{Lab, eventually, until};
use sqlx::PgPool;
use uuid::Uuid;
use zastrugi_core::rooms::{Proposal, machines};
use zastrugi_core::runs::RunState;
use zastrugi_engine::Engine;

#[sqlx::test(migrations = false)]
async fn two_processes_serve_the_same_estate_and_one_goes_on_alone(pool: PgPool) {
    let lab = Lab::new(&pool, 2).await;
    lab.ready().await;
    let other = Engine::start(lab.settings.clone()).await.unwrap();
    let desk = other.desk();
    // What was observed a moment ago may be on its way to either.
    eventually("it starts with what is stored", || {
        desk.look().estate.hosts == lab.estate().hosts
    })
    .await;
    // Both append at the same time; neither loses anything.
    let asks: Vec<_> = (0..6)
        .map(|i| lab.create(&format!("gate-{i}"), 1, true))
        .collect();
    let mut runs = vec![];
    for (i, ask) in asks.into_iter().enumerate() {
        let at = if i % 2 == 0 { &lab.desk } else { &desk };
        runs.push(
            at.start(&lab.admin, ask, None, Uuid::new_v4())
                .await
                .unwrap(),
        );
    }
    for run in &runs {
        until(&desk, *run, &[RunState::Done]).await;
    }
    eventually("both hold the same estate", || {
        *lab.estate() == *desk.look().estate
    })
    .await;
    lab.assert_once();
    // One is gone; the other does the work and watches the devices.
    let Lab {
        engine,
        standins,
        admin,
        ..
    } = lab;
    engine.stop().await;
    let gate = desk.look().estate.machine_named("gate-0").unwrap().id;
    let stop = zastrugi_core::rooms::machines::PowerAct::Off;
    let ask = Proposal::Machines(machines::Ask::Power {
        machines: vec![gate],
        act: stop,
    });
    let run = desk.start(&admin, ask, None, Uuid::new_v4()).await.unwrap();
    until(&desk, run, &[RunState::Done]).await;
    eventually("the other leads", || desk.health().leads).await;
    standins.world.power("h1", false);
    eventually("and sees what happens", || {
        desk.look().estate.hosts.values().any(|h| !h.accepts_work())
    })
    .await;
    other.stop().await;
}

#[sqlx::test(migrations = false)]
async fn a_past_moment_is_a_query(pool: PgPool) {
    let lab = Lab::new(&pool, 1).await;
    lab.done(lab.claim().await).await;
    let then = lab.estate();
    lab.done(lab.cluster().await).await;
    // Afterwards its reports say nothing new.
    crate::pools::disks_known(&lab).await;
    eventually("its watchdog is armed", || {
        lab.estate().hosts.values().all(|h| h.watchdog)
    })
    .await;
    let journal = zastrugi_store::Journal::new(pool.clone());
    let past = journal.load_at(then.revision).await.unwrap();
    assert_eq!(past.hosts, then.hosts);
    assert!(past.clusters.is_empty());
    let rebuilt = journal.load().await.unwrap().1.estate;
    assert_eq!(
        rebuilt,
        *lab.estate(),
        "a restarted process holds the same estate"
    );
}
