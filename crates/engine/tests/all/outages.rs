//! What fails on our side, or hangs on theirs, and whom it must not touch.

use crate::lab::{Lab, eventually};
use sqlx::{Connection, PgConnection, PgPool};
use std::time::{Duration, Instant};
use uuid::Uuid;
use zastrugi_core::{
    estate::{Condition, MachineState},
    rooms::{Proposal, networks},
    runs::RunState,
};
use zastrugi_drivers::Networks;
use zastrugi_engine::{Engine, Resolve};
use zastrugi_standins::{Fault, FaultKind};
use zastrugi_store::testkit::url;

/// If this fails, a slow database makes every host look dead.
#[sqlx::test(migrations = false)]
async fn our_database_s_failure_is_never_a_host_s(pool: PgPool) {
    let mut lab = Lab::new(&pool, 3).await;
    lab.ready().await;
    lab.engine.stop().await;
    let mut other = PgConnection::connect(&url(&pool)).await.unwrap();
    let mut locked = other.begin().await.unwrap();
    sqlx::query("lock table secret in access exclusive mode")
        .execute(&mut *locked)
        .await
        .unwrap();
    // A process that has opened no key yet.
    lab.engine = Engine::start(lab.settings.clone()).await.unwrap();
    lab.desk = lab.engine.desk();
    eventually("it leads", || lab.desk.health().leads).await;
    let until = Instant::now() + Duration::from_secs(9);
    while Instant::now() < until {
        let steady = |c: &Condition| *c == Condition::Steady;
        assert!(lab.estate().hosts.values().all(|h| steady(&h.condition)));
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    locked.rollback().await.unwrap();
    // What happens to a host is seen again.
    eventually("hosts are followed", || {
        lab.desk.look().loads.hosts.len() == 3
    })
    .await;
}

/// If this fails, hosts that hang keep the others' work waiting.
#[sqlx::test(migrations = false)]
async fn thirty_two_hanging_hosts_slow_nobody_else(pool: PgPool) {
    let lab = Lab::new(&pool, 33).await;
    lab.ready().await;
    eventually("hosts tell of their uplinks", || {
        lab.estate().hosts.values().all(|h| h.uplinks.len() == 2)
    })
    .await;
    for n in 2..=33 {
        lab.standins.world.add_fault(Fault {
            device: format!("h{n}"),
            call: "/v1/networks".into(),
            kind: FaultKind::Hang,
            times: 50,
        });
    }
    let ask = networks::CreateNetwork {
        name: "guests".into(),
        cluster: lab.estate().clusters.keys().next().copied(),
        role: zastrugi_core::estate::NetRole::Guest,
        vlan: Some(60),
        mtu: 1500,
        subnets: vec![],
        uplinks: ["uplink-1", "uplink-2"].map(str::to_owned).into(),
    };
    let hangs = lab
        .start(Proposal::Networks(networks::Ask::Create(ask)))
        .await;
    eventually("the calls are under way", || {
        let view = lab.desk.look();
        view.runs.get(hangs).is_some_and(|r| r.tally.running >= 32)
    })
    .await;
    let h1 = lab.estate().host_named("h1").unwrap().id;
    let mut ask = lab.create("gate", 3, false);
    if let Proposal::Machines(zastrugi_core::rooms::machines::Ask::Create(create)) = &mut ask {
        create.host = Some(h1);
    }
    let began = Instant::now();
    lab.done(ask).await;
    assert!(
        began.elapsed() < Duration::from_secs(4),
        "a hanging call takes longer: this one waited for it ({:?})",
        began.elapsed()
    );
    let view = lab.desk.look();
    let run = view.runs.get(hangs).unwrap();
    assert!(run.tally.running >= 30, "they still hang: {:?}", run.tally);
    lab.standins.world.clear_faults();
    lab.desk
        .answer(&lab.admin, hangs, Resolve::Cancel)
        .await
        .unwrap();
    lab.until(hangs, &[RunState::Cancelled, RunState::Done])
        .await;
}

/// If this fails, a process that is stopped keeps everybody without a leader for ten seconds.
#[sqlx::test(migrations = false)]
async fn a_process_that_is_stopped_lets_go_of_the_lead(pool: PgPool) {
    let lab = Lab::new(&pool, 1).await;
    eventually("it leads", || lab.desk.health().leads).await;
    lab.engine.stop().await;
    let free: bool = sqlx::query_scalar("select expires <= now() from lease where name = 'leader'")
        .fetch_one(&pool)
        .await
        .unwrap();
    assert!(free);
}

/// If this fails, the lead lapses because something else of the process is busy or waits.
#[sqlx::test(migrations = false)]
async fn the_lead_is_renewed_while_the_process_has_no_connection_left(pool: PgPool) {
    let lab = Lab::new(&pool, 1).await;
    eventually("it leads", || lab.desk.health().leads).await;
    let term = || async {
        let q = sqlx::query_scalar::<_, i64>(
            "select term from lease where name = 'leader' and expires > now()",
        );
        q.fetch_optional(&pool).await.unwrap()
    };
    let before = term().await;
    // The whole pool of the process waits for this lock.
    let mut other = PgConnection::connect(&url(&pool)).await.unwrap();
    let mut locked = other.begin().await.unwrap();
    sqlx::query("lock table orders, head, setting in access exclusive mode")
        .execute(&mut *locked)
        .await
        .unwrap();
    tokio::time::sleep(Duration::from_secs(12)).await;
    assert_eq!(term().await, before, "the same term, not run out");
    locked.rollback().await.unwrap();
    lab.done(lab.claim().await).await;
}

/// If this fails, a process that was replaced as leader, and has not noticed, still writes what it sees: two of them tell
/// the same host's story.
#[sqlx::test(migrations = false)]
async fn a_leader_that_was_replaced_writes_nothing_more(pool: PgPool) {
    let lab = Lab::new(&pool, 1).await;
    lab.ready().await;
    lab.done(lab.create("m", 1, true)).await;
    eventually("it leads", || lab.desk.health().leads).await;
    let replace = "update lease set holder = gen_random_uuid(), term = term + 1, expires = now() + interval '1 hour'
                   where name = 'leader'";
    sqlx::query(replace).execute(&pool).await.unwrap();
    lab.standins.world.pull("m");
    assert_eq!(lab.standins.world.running("m"), []);
    tokio::time::sleep(Duration::from_secs(2)).await;
    let state = || lab.estate().machine_named("m").unwrap().state.clone();
    assert_eq!(state(), MachineState::Running { guest: true });
    // Its successor goes away; somebody leads again, and sees it.
    sqlx::query("update lease set expires = now()")
        .execute(&pool)
        .await
        .unwrap();
    eventually("it is seen", || state() == MachineState::Off).await;
}

/// If this fails, a network that an admin allowed is allowed in one process only.
#[sqlx::test(migrations = false)]
async fn settings_reach_every_process(pool: PgPool) {
    let lab = Lab::new(&pool, 1).await;
    let other = Engine::start(lab.settings.clone()).await.unwrap();
    let networks = Networks::parse("10.9.0.0/16").unwrap();
    lab.desk
        .set_networks(&lab.admin, networks.clone())
        .await
        .unwrap();
    eventually("the other knows", || other.desk().networks() == networks).await;
}

/// If this fails, somebody whose role was taken away still starts what they had open.
#[sqlx::test(migrations = false)]
async fn the_role_is_read_again_when_it_counts(pool: PgPool) {
    let lab = Lab::new(&pool, 1).await;
    lab.ready().await;
    let ask = lab.create("gate", 1, false);
    sqlx::query("update person set role = 'viewer'")
        .execute(&pool)
        .await
        .unwrap();
    let refused = lab.desk.start(&lab.admin, ask, None, Uuid::new_v4()).await;
    assert!(
        matches!(refused, Err(zastrugi_engine::StartError::NotAllowed)),
        "{refused:?}"
    );
}
