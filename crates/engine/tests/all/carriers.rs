//! Processes that carry bytes: a mover stays with the one that began it, one at a site does nothing else, and others go on for it when
//! it is gone.

use crate::{
    lab::{Lab, eventually, eventually_within, until},
    replicas::{alike, begin, lab_with},
};
use sqlx::PgPool;
use std::time::Duration;
use uuid::Uuid;
use zastrugi_core::runs::RunState;
use zastrugi_engine::{Engine, EngineSettings};

/// Who carries now.
async fn carrier(pool: &PgPool) -> Option<Uuid> {
    let found = sqlx::query_scalar("select carrier from orders where carrier is not null");
    found.fetch_optional(pool).await.unwrap()
}

async fn carries(pool: &PgPool) -> Uuid {
    for _ in 0..400 {
        if let Some(found) = carrier(pool).await {
            return found;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    panic!("nobody carries");
}

fn at(lab: &Lab, sites: &[&str]) -> EngineSettings {
    let names = sites.iter().map(|s| (*s).to_owned());
    EngineSettings {
        carries: Some(names.collect()),
        ..lab.settings.clone()
    }
}

async fn there(lab: &Lab, count: usize) {
    for _ in 0..400 {
        if lab.desk.carriers().await.unwrap().len() == count {
            return;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    panic!("{:?}", lab.desk.carriers().await);
}

/// If this fails, a process at a site carries nothing, does what it should not, or leaves everything standing when it dies.
#[sqlx::test(migrations = false)]
async fn one_at_a_site_carries_and_others_go_on_when_it_is_gone(pool: PgPool) {
    let lab = lab_with(&pool, "1 MiB/s").await;
    let elsewhere = Engine::start(at(&lab, &["Lantern Point"])).await.unwrap();
    let own = Engine::start(at(&lab, &["Quayside"])).await.unwrap();
    there(&lab, 2).await;
    let run = lab.start(begin(&lab)).await;
    let carried = carries(&pool).await;
    let is: Uuid = sqlx::query_scalar("select process from carrier where cardinality(sites) > 0")
        .fetch_one(&pool)
        .await
        .unwrap();
    assert_eq!(
        carried, is,
        "what goes from a site is left to whoever carries there"
    );
    drop(own);
    eventually_within("another goes on", 60, || {
        lab.desk
            .look()
            .runs
            .get(run)
            .is_none_or(|r| r.state != RunState::Running)
            || lab.standins.world.deliveries() == 1
    })
    .await;
    until(&lab.desk, run, &[RunState::Done]).await;
    assert!(alike(&lab));
    assert_eq!(lab.standins.world.deliveries(), 0);
    drop(elsewhere);
    lab.assert_once();
}

/// If this fails, two processes carry the same bytes at the same time, and each starts where the other is.
#[sqlx::test(migrations = false)]
async fn a_mover_stays_with_its_process(pool: PgPool) {
    let lab = lab_with(&pool, "1 MiB/s").await;
    let other = Engine::start(lab.settings.clone()).await.unwrap();
    let run = lab.start(begin(&lab)).await;
    let first = carries(&pool).await;
    for _ in 0..30 {
        tokio::time::sleep(Duration::from_millis(100)).await;
        let now = carrier(&pool).await;
        if lab.desk.look().runs.get(run).is_none() {
            break;
        }
        assert!(now.is_none_or(|n| n == first), "{now:?} after {first}");
    }
    eventually("it is done", || lab.desk.look().runs.get(run).is_none()).await;
    assert!(alike(&lab));
    drop(other);
}
