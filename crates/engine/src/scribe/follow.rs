//! Following what other processes write, and noticing when the journal is not the one that it was.

use crate::{shared::Shared, standing};
use std::{sync::Arc, time::Duration};
use tokio::{sync::mpsc, time::sleep};
use zastrugi_core::rooms::World;
use zastrugi_store::{Batch, Head, Heard, Journal, News, StoreError};

/// Rings whenever another process may have appended: on its notification, and every two seconds in any case.
pub(super) async fn listen(shared: Arc<Shared>, behind: mpsc::Sender<()>) {
    loop {
        match News::listen(&shared.pool).await {
            Ok(mut news) => {
                // What was said while nobody listened is looked up.
                shared.settings.notify_one();
                while let Ok(heard) = news.next(Duration::from_secs(2)).await {
                    if heard == Heard::Settings {
                        shared.settings.notify_one();
                    } else if behind.send(()).await.is_err() {
                        return;
                    }
                }
            }
            Err(error) => tracing::debug!(%error, "no notifications from the database"),
        }
        sleep(Duration::from_millis(500)).await;
        if behind.send(()).await.is_err() {
            return;
        }
    }
}

/// Rings each second: a database that follows another tells nobody that it received something.
pub(super) async fn poll(behind: mpsc::Sender<()>) {
    loop {
        sleep(standing::OFTEN).await;
        if behind.send(()).await.is_err() {
            return;
        }
    }
}

pub(super) async fn catch_up(shared: &Shared, journal: &Journal) {
    match fresh(shared, journal).await {
        Ok(fresh) => {
            shared.answers(true);
            if let Some((head, world)) = fresh {
                shared.publish(head, world);
                shared.orders.notify_one();
            }
        }
        Err(error) => {
            shared.answers(false);
            tracing::warn!(error = %error.detail(), "the database is asked again");
        }
    }
}

/// What is different from what this process holds, if anything is.
async fn fresh(shared: &Shared, journal: &Journal) -> Result<Option<(Head, World)>, StoreError> {
    let head = journal.head().await?;
    let ours = shared.snapshot();
    if head == ours.head {
        return Ok(None);
    }
    if other_journal(&ours.head, &head) {
        // A stand-by only shows what its database holds.
        if head.epoch == ours.head.epoch && !shared.stands_by {
            let (was, is) = (ours.head.revision, head.revision);
            tracing::error!(%was, %is, "the journal went back; orders are held");
            let why =
                format!("The database went back from revision {was} to {is}, as after a restore.");
            journal.hold(&why).await?;
        }
        return journal.load().await.map(Some);
    }
    let (head, change) = journal.changed_since(ours.head.revision).await?;
    let mut world = ours.world();
    world.apply(change);
    world.estate.revision = head.revision;
    Ok(Some((head, world)))
}

/// Whether the journal does not continue what this process knows: another history began, or it went back, as after a
/// restore. Then everything is read anew, and orders are held until a person has looked: devices know more than we do.
pub(super) fn other_journal(ours: &Head, head: &Head) -> bool {
    head.epoch != ours.epoch || head.revision < ours.revision
}

/// What was known at a head, brought up to what the lock holds still.
pub(super) async fn under_lock(
    known: &Head,
    mut world: World,
    batch: &mut Batch,
) -> Result<World, StoreError> {
    let is = batch.head().revision;
    if is > known.revision {
        let change = batch.changed_since(known.revision).await?;
        world.apply(change);
        world.estate.revision = is;
    }
    Ok(world)
}
