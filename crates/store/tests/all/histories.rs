//! Histories: when the journal goes back, when a new one begins, and what holds orders.

use super::{MIGRATIONS, append, stored};
use sqlx::{Executor, PgPool};
use uuid::Uuid;
use zastrugi_core::{
    estate::Volume,
    ids::{MachineId, Revision, RunId, VolumeId},
    moment::{Moment, Span},
    road::Urgency,
    rooms::{Event, machines, storage},
    testkit::read,
};
use zastrugi_store::{Journal, NewOrder, Orders, StoreError};

/// If this fails, orders of before a restore are carried out after it.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_new_history_is_above_all_that_was_seen_and_drops_the_orders_of_the_old_one(
    pool: PgPool,
) {
    let (journal, orders) = (Journal::new(pool.clone()), Orders::new(pool.clone()));
    let before = journal.head().await.unwrap();
    assert_eq!((before.epoch.number, before.held), (1, None));
    let mut batch = journal.begin().await.unwrap();
    let order = NewOrder {
        run: RunId(1),
        step: 0,
        attempt: 1,
        after: Span(0),
        device: "host-1".into(),
        urgency: Urgency::Ordinary,
        carried_at: vec![],
    };
    batch.write_orders(&[], &[order]).await.unwrap();
    batch.commit(Revision(1), Uuid::new_v4()).await.unwrap();
    journal.hold("It went back.").await.unwrap();
    journal.hold("A host said so too.").await.unwrap();
    assert_eq!(
        journal.head().await.unwrap().held.as_deref(),
        Some("It went back.")
    );
    let taken = orders.take(9, 4, &[], Span::secs(30)).await.unwrap();
    assert_eq!(taken, [], "held orders are not taken");
    let mut batch = journal.begin().await.unwrap();
    let epoch = batch.begin_history(7, None).await.unwrap();
    batch.commit(Revision(2), Uuid::new_v4()).await.unwrap();
    let after = journal.head().await.unwrap();
    assert_eq!((after.epoch, after.held), (epoch, None));
    assert_eq!(
        epoch.number, 8,
        "above every number that a device has shown"
    );
    assert_ne!(epoch.history, before.epoch.history);
    let parent: Uuid = sqlx::query_scalar("select parent from head")
        .fetch_one(&pool)
        .await
        .unwrap();
    assert_eq!(parent, before.epoch.history);
    assert!(
        orders
            .take(9, 4, &[], Span::secs(30))
            .await
            .unwrap()
            .is_empty()
    );
}

/// If this fails, a commit that is still on its way is taken for one that never was, and done twice.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_lost_answer_to_commit_is_looked_up_only_under_the_head_lock(pool: PgPool) {
    let journal = Journal::new(pool.clone());
    stored(&journal).await;
    let held = journal.begin().await.unwrap();
    let asked = journal.was_written(Uuid::new_v4()).await;
    assert!(
        matches!(asked, Err(StoreError::Unavailable(_))),
        "{asked:?}"
    );
    drop(held);
}

/// If this fails, only one volume at a time can be connected.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn several_volumes_without_an_identity_are_made_side_by_side(pool: PgPool) {
    let journal = Journal::new(pool.clone());
    let mut estate = stored(&journal).await;
    let any = read("cluster a\nhost 1 64")
        .view
        .estate
        .volumes
        .values()
        .next()
        .unwrap()
        .clone();
    let blank = |id: u64| {
        let name = format!("v{id}");
        let uid = String::new();
        let volume = Volume {
            id: VolumeId(id),
            name,
            uid,
            ..Volume::clone(&any)
        };
        Event::Storage(storage::Event::VolumePlanned(Box::new(volume)))
    };
    append(&journal, &mut estate, &[blank(2000), blank(2001)]).await;
    assert_eq!(journal.load().await.unwrap().1.estate, estate);
}

/// If this fails, one value that the database refuses is taken for a database that is away.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_value_that_cannot_be_stored_is_told_from_a_database_that_is_away(pool: PgPool) {
    let journal = Journal::new(pool.clone());
    stored(&journal).await;
    let mut batch = journal.begin().await.unwrap();
    let line = zastrugi_store::EventLine {
        at: Moment(1),
        who: zastrugi_core::permits::Who::itself(),
        run: None,
        entry: zastrugi_core::road::Entry::new("edit", "a\0b", vec![]),
    };
    let refused = batch
        .write(Revision(2), &Default::default(), &[line], &[])
        .await;
    assert!(
        matches!(refused, Err(StoreError::Refused(_))),
        "{refused:?}"
    );
}

/// If this fails, removing old history holds everybody up, or takes what is current.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn much_old_history_goes_in_pieces(pool: PgPool) {
    let journal = Journal::new(pool.clone());
    let mut estate = stored(&journal).await;
    let gone = machines::Event::Deleted {
        machine: MachineId(8),
        at: Moment(5),
    };
    append(&journal, &mut estate, &[gone.into()]).await;
    pool.execute(
        "insert into fact (kind, id, since, until, version, live, body)
         select 'site', 5000, n, n + 1, 1, true, '{}' from generate_series(-12000, -1) n",
    )
    .await
    .unwrap();
    pool.execute("update batch set at = now() - interval '91 days'")
        .await
        .unwrap();
    journal.tend(90, 400).await.unwrap();
    let old: i64 =
        sqlx::query_scalar("select count(*) from fact where kind = 'site' and id = 5000")
            .fetch_one(&pool)
            .await
            .unwrap();
    assert_eq!(old, 0);
    assert_eq!(journal.load().await.unwrap().1.estate, estate);
}
