//! Copies that something breaks off in the middle: a far volume that takes nothing more, a machine that moves while it is read. What is
//! told names it, and what was there stays good.

use crate::{
    lab::{Lab, eventually},
    moving::go,
    replicas::{alike, begin, lab_with},
};
use sqlx::PgPool;
use std::time::Duration;
use zastrugi_core::{
    estate::StoredPoint,
    rooms::{
        Proposal,
        machines::{self, PowerAct},
    },
    runs::RunState,
    units::Bytes,
};
use zastrugi_engine::Resolve;

fn points(lab: &Lab) -> Vec<StoredPoint> {
    let estate = lab.estate();
    let of = estate.machine_named("m").unwrap().uuid;
    let replica = estate.replicas_of(of).next().cloned();
    replica
        .iter()
        .flat_map(|r| r.replicated())
        .cloned()
        .collect()
}

async fn power(lab: &Lab, act: PowerAct) {
    let machines = vec![lab.machine("m")];
    lab.done(Proposal::Machines(machines::Ask::Power { machines, act }))
        .await;
}

/// If this fails, a far side that is full tears the replica, nobody is told which volume it is, or all that was brought is brought again.
#[sqlx::test(migrations = false)]
async fn a_far_volume_that_takes_nothing_more_is_named_and_the_copy_goes_on_after_it(pool: PgPool) {
    let lab = lab_with(&pool, "4 MiB/s").await;
    let run = lab.start(begin(&lab)).await;
    eventually("it goes over", || lab.standins.world.deliveries() == 1).await;
    tokio::time::sleep(Duration::from_millis(1200)).await;
    lab.standins.world.stuff("shale", true);
    let run = lab.until(run, &[RunState::NeedsYou]).await;
    let said = run.steps().find_map(|s| s.fault.clone()).unwrap().said;
    assert!(
        said.contains("shale") && said.contains("nothing more"),
        "{said}"
    );
    assert!(points(&lab).is_empty());
    lab.standins.world.stuff("shale", false);
    lab.desk
        .answer(&lab.admin, run.id, Resolve::Retry)
        .await
        .unwrap();
    lab.until(run.id, &[RunState::Done]).await;
    assert!(alike(&lab));
    assert_eq!(
        (points(&lab).len(), lab.standins.world.deliveries()),
        (1, 0)
    );
    lab.assert_once();
}

/// If this fails, who moves a machine tears its copy, or the next copy is of everything.
#[sqlx::test(migrations = false)]
async fn a_machine_moves_while_it_is_copied(pool: PgPool) {
    let lab = lab_with(&pool, "1 MiB/s").await;
    lab.migration_network().await;
    let has = |h: &str| {
        let estate = lab.estate();
        let host = estate.hosts.values().find(|own| own.name == h).cloned();
        host.is_some_and(|own| own.networks.contains_key("migration"))
    };
    eventually("hosts have the network", || has("h1") && has("h2")).await;
    power(&lab, PowerAct::On { host: None }).await;
    let host = || lab.estate().machine_named("m").unwrap().host;
    let (run, before) = (lab.start(begin(&lab)).await, host());
    eventually("it goes over", || lab.standins.world.deliveries() == 1).await;
    tokio::time::sleep(Duration::from_millis(500)).await;
    lab.done(go(&lab, |_| {})).await;
    assert!(host() != before, "it did not move");
    let state = lab.desk.look().runs.get(run).map(|r| r.state);
    assert_eq!(
        state,
        Some(RunState::Running),
        "it was over before the move"
    );
    lab.until(run, &[RunState::Done]).await;
    assert_eq!(points(&lab).len(), 1);
    power(&lab, PowerAct::Off).await;
    lab.done(begin(&lab)).await;
    assert!(alike(&lab));
    let next = points(&lab)[1].read;
    assert!(
        next < Bytes::mib(8),
        "{next}: what changed since is known though it moved"
    );
}
