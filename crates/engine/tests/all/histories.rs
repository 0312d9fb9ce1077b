//! Histories: a database that was restored gives no orders until a person has looked, and devices obey the newest alone.

use crate::lab::{Lab, eventually, until};
use sqlx::PgPool;
use std::{
    io::Write,
    process::{Command, Stdio},
};
use uuid::Uuid;
use zastrugi_core::runs::{FaultKind, RunState};
use zastrugi_engine::{Engine, EngineSettings, Resolve, StartError};
use zastrugi_store::testkit::url;

/// The whole database as text, as a backup holds it.
fn dump(database: &str) -> Vec<u8> {
    let dumped = Command::new("pg_dump")
        .args(["--no-owner", database])
        .output()
        .unwrap();
    assert!(dumped.status.success());
    dumped.stdout
}

/// Puts a backup into another database; answers its address.
async fn restore(pool: &PgPool, backup: &[u8]) -> String {
    let name = format!("_sqlx_test_restored_{}", Uuid::new_v4().simple());
    let make = sqlx::AssertSqlSafe(format!("create database {name}"));
    sqlx::query(make).execute(pool).await.unwrap();
    let base = url(pool);
    let to = format!("{}/{name}", &base[..base.rfind('/').unwrap()]);
    let mut psql = Command::new("psql")
        .args(["--quiet", "-v", "ON_ERROR_STOP=1", &to])
        .stdin(Stdio::piped())
        .stdout(Stdio::null())
        .spawn()
        .unwrap();
    psql.stdin.take().unwrap().write_all(backup).unwrap();
    assert!(psql.wait().unwrap().success());
    to
}

/// Takes the journal so many revisions back, as a restore in place does.
async fn back(pool: &PgPool, revisions: i64) {
    let mut tx = pool.begin().await.unwrap();
    for change in [
        "update head set revision = revision - $1",
        "delete from event where revision > (select revision from head) and $1 > 0",
        "delete from batch where revision > (select revision from head) and $1 > 0",
        "delete from fact where since > (select revision from head) and $1 > 0",
        "update fact set until = null where until > (select revision from head) and $1 > 0",
    ] {
        sqlx::query(change)
            .bind(revisions)
            .execute(&mut *tx)
            .await
            .unwrap();
    }
    tx.commit().await.unwrap();
}

fn held(engine: &Engine) -> Option<String> {
    engine.desk().health().held
}

/// If this fails, a restored database issues run numbers again, agents answer new steps with old answers, and runs are
/// *done* with nothing on any volume; or the old copy and the restored one both give orders.
#[sqlx::test(migrations = false)]
async fn a_restored_database_gives_no_orders_until_a_new_history_is_begun(pool: PgPool) {
    let lab = Lab::new(&pool, 2).await;
    lab.ready().await;
    lab.done(lab.create("gate-0", 1, false)).await;
    let backup = dump(&url(&pool));
    for n in 1..=4 {
        lab.done(lab.create(&format!("gate-{n}"), 1, true)).await;
    }
    let Lab {
        engine: first,
        standins,
        admin,
        settings,
        ..
    } = lab;
    first.stop().await;

    let restored = restore(&pool, &backup).await;
    let second = Engine::start(EngineSettings {
        database: restored.clone(),
        ..settings.clone()
    })
    .await
    .unwrap();
    let desk = second.desk();
    eventually("hosts know more than the database", || {
        held(&second).is_some()
    })
    .await;
    assert!(
        held(&second).unwrap().contains("is ahead"),
        "{:?}",
        held(&second)
    );
    let cluster = desk.look().estate.clusters.keys().next().copied();
    let create = |name: &str| {
        use zastrugi_core::rooms::machines::{Ask, CreateMachines};
        let made = CreateMachines {
            pledge: None,
            start: true,
            ..zastrugi_core::testkit::machines(name, 1, cluster, 2)
        };
        zastrugi_core::rooms::Proposal::Machines(Ask::Create(Box::new(made)))
    };
    let refused = desk
        .start(&admin, create("tide"), None, Uuid::new_v4())
        .await;
    assert!(matches!(refused, Err(StartError::Held(_))), "{refused:?}");

    let epoch = desk.begin_history(&admin).await.unwrap();
    assert_eq!(epoch.number, 2);
    assert_eq!(held(&second), None);
    for n in 5..=8 {
        let ask = create(&format!("gate-{n}"));
        let run = desk.start(&admin, ask, None, Uuid::new_v4()).await.unwrap();
        assert_eq!(
            until(&desk, run, &[RunState::Done, RunState::NeedsYou])
                .await
                .state,
            RunState::Done
        );
        assert_eq!(
            standins.world.running(&format!("gate-{n}")).len(),
            1,
            "it is really there"
        );
    }

    // The first database comes back by mistake: no device obeys it, and it notices.
    let old = Engine::start(settings).await.unwrap();
    eventually("devices obey a newer history", || held(&old).is_some()).await;
    assert!(
        held(&old).unwrap().contains("it obeys history 2"),
        "{:?}",
        held(&old)
    );
    old.stop().await;
    second.stop().await;
    let name = restored.rsplit('/').next().unwrap();
    let drop = sqlx::AssertSqlSafe(format!("drop database {name} with (force)"));
    sqlx::query(drop).execute(&pool).await.unwrap();
    assert_eq!(standins.world.violations(), Vec::<String>::new());
}

/// If this fails, a process goes on with an estate that its database no longer has.
#[sqlx::test(migrations = false)]
async fn a_journal_that_goes_back_under_a_running_process_is_noticed(pool: PgPool) {
    let lab = Lab::new(&pool, 1).await;
    lab.ready().await;
    lab.done(lab.create("gate", 1, true)).await;
    back(&pool, 3).await;
    eventually("it is noticed", || held(&lab.engine).is_some()).await;
    assert!(
        held(&lab.engine).unwrap().contains("went back"),
        "{:?}",
        held(&lab.engine)
    );
    let refused = lab
        .desk
        .start(
            &lab.admin,
            lab.create("tide", 1, false),
            None,
            Uuid::new_v4(),
        )
        .await;
    assert!(matches!(refused, Err(StartError::Held(_))), "{refused:?}");
    lab.desk.begin_history(&lab.admin).await.unwrap();
    lab.done(lab.create("tide", 1, false)).await;
}

/// If this fails, whoever begins a history while hosts report is told that the database was restored again, and orders
/// stay held until somebody has luck.
#[sqlx::test(migrations = false)]
async fn a_history_begins_while_others_write(pool: PgPool) {
    let lab = Lab::new(&pool, 1).await;
    lab.ready().await;
    let journal = zastrugi_store::Journal::new(pool.clone());
    let batch = journal.begin().await.unwrap();
    let head = batch.head().clone();
    let (desk, admin) = (lab.desk.clone(), lab.admin.clone());
    let begun = tokio::spawn(async move { desk.begin_history(&admin).await });
    // It has read what was written, and waits for the lock behind a writer.
    tokio::time::sleep(std::time::Duration::from_millis(200)).await;
    let revision = zastrugi_core::ids::Revision(head.revision.0 + 1);
    batch.commit(revision, Uuid::new_v4()).await.unwrap();
    let epoch = begun.await.unwrap().unwrap();
    assert_eq!(epoch.number, head.epoch.number + 1);
    eventually("this process writes in it", || {
        lab.desk.look().estate.revision > revision
    })
    .await;
    lab.done(lab.create("gate", 1, true)).await;
}

/// If this fails, a step that was under way when the database was restored is done a second time without anybody looking.
#[sqlx::test(migrations = false)]
async fn what_was_under_way_in_the_old_history_waits_for_a_person(pool: PgPool) {
    let lab = Lab::new(&pool, 1).await;
    lab.ready().await;
    let run = lab.unanswered("gate", &["h1"]).await;
    lab.desk.begin_history(&lab.admin).await.unwrap();
    let stuck = lab.until(run, &[RunState::NeedsYou]).await;
    let fault = stuck.steps().find_map(|s| s.fault.clone()).unwrap();
    assert_eq!(fault.kind, FaultKind::History);
    lab.desk
        .answer(&lab.admin, run, Resolve::Retry)
        .await
        .unwrap();
    lab.until(run, &[RunState::Done]).await;
    assert_eq!(lab.standins.world.running("gate").len(), 1);
    assert_eq!(lab.standins.world.violations(), Vec::<String>::new());
}
