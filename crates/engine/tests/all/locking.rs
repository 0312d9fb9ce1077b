//! A store in a bucket with object lock, through the desk: made only where it can lock, and nothing of it goes before its time.

use crate::{
    backups::{back_up, give_up, make_store, needs_you, opened, points},
    lab::Lab,
    packages::small,
};
use sqlx::PgPool;
use zastrugi_core::{
    estate::{PointAt, Store},
    finding::Finding,
    moment::Span,
    permits::{Permits, Role},
    rooms::{
        Proposal, assess,
        stores::{Ask, MakeStore},
    },
};
use zastrugi_store::testkit::url;

async fn lab(pool: &PgPool) -> Lab {
    let lab = Lab::at_speed(&url(pool), 2, 40.0).await;
    lab.ready().await;
    lab.done(small(&lab, "m", 1)).await;
    lab
}

async fn locked(lab: &Lab, change: impl FnOnce(&mut MakeStore)) -> Proposal {
    let Proposal::Stores(Ask::Make(mut ask)) = make_store(lab, "hill").await else {
        panic!("it makes no store");
    };
    ask.bucket = "kept".into();
    ask.lock = "30".into();
    change(&mut ask);
    Proposal::Stores(Ask::Make(ask))
}

fn store(lab: &Lab) -> Store {
    Store::clone(lab.estate().stores.values().next().unwrap())
}

/// If this fails, an administrator believes that copies are locked which one stolen access key takes away.
#[sqlx::test(migrations = false)]
async fn a_locked_store_says_until_when_each_point_stays_and_lets_none_go(pool: PgPool) {
    let lab = lab(&pool).await;
    lab.done(locked(&lab, |_| {}).await).await;
    assert_eq!(store(&lab).lock, Some(Span::days(30)));
    lab.done(back_up(&lab, "m")).await;
    let [point] = points(&lab).try_into().unwrap();
    let until = point.locked.unwrap();
    let days = until.since(point.taken);
    assert!(days >= Span::days(30) && days < Span::days(31), "{days}");

    let estate = lab.estate();
    let series = estate.series.values().next().unwrap();
    let at = PointAt {
        store: store(&lab).id,
        machine: series.machine,
        session: point.session,
    };
    let go = Proposal::Stores(Ask::LetGo {
        points: vec![at],
        typed: "m".into(),
    });
    let said = assess(
        &lab.desk.look(),
        &Permits::of(Role::Admin),
        &go,
        lab.desk.now(),
    );
    let refused = |f: &Finding| f.stops() && f.text.contains("is locked until");
    assert!(said.findings().iter().any(refused), "{:?}", said.findings());

    // Somebody else's manager finds it as it was left, and how long it locks.
    let there = opened(&lab).await;
    let manifests = there.points(None).await.unwrap();
    assert_eq!(manifests.len(), 1);
    lab.done(Proposal::Stores(Ask::Forget {
        store: at.store,
        typed: "breakwater".into(),
    }))
    .await;
    assert!(lab.estate().stores.is_empty() && lab.estate().series.is_empty());
}

/// If this fails, a store is called locked whose bucket locks nothing.
#[sqlx::test(migrations = false)]
async fn where_a_bucket_has_no_object_lock_the_run_says_so_and_makes_nothing(pool: PgPool) {
    let lab = lab(&pool).await;
    let make = locked(&lab, |ask| ask.bucket = "points".into()).await;
    let (run, said) = needs_you(&lab, make).await;
    assert!(said.contains("no object lock"), "{said}");
    give_up(&lab, &run).await;
    assert!(lab.estate().stores.is_empty());
}
