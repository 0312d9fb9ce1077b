//! Writing a batch: lock the head, catch up, decide, write, commit, publish.

use super::{
    Append, Refusal,
    batch::Draft,
    follow::{catch_up, other_journal, under_lock},
    guards::Guards,
};
use crate::shared::Shared;
use std::time::Duration;
use tokio::time::sleep;
use uuid::Uuid;
use zastrugi_core::ids::{Revision, RunId};
use zastrugi_store::{Batch, Head, Journal, StoreError};

/// Writes appends together; one that the database refuses is written, and fails, alone.
pub(super) async fn write(shared: &Shared, journal: &Journal, appends: Vec<Append>) {
    if shared.stands_by {
        return appends.into_iter().for_each(|append| {
            let words = "this manager stands by, and changes nothing".to_owned();
            drop(append.reply.send(Err(Refusal::Unavailable(words))));
        });
    }
    let Err((error, mut appends)) = attempt(shared, journal, appends).await else {
        return;
    };
    let refused = matches!(error, StoreError::Taken(_) | StoreError::Refused(_));
    if refused && appends.len() > 1 {
        for append in appends {
            if let Err((error, alone)) = attempt(shared, journal, vec![append]).await {
                fail(shared, &error, alone);
            }
        }
        return;
    }
    if !refused {
        sleep(Duration::from_millis(50)).await;
    }
    fail(shared, &error, std::mem::take(&mut appends));
}

fn fail(shared: &Shared, error: &StoreError, appends: Vec<Append>) {
    tracing::warn!(error = %error.detail(), appends = appends.len(), "not written");
    if !matches!(error, StoreError::Taken(_) | StoreError::Refused(_)) {
        shared.answers(false);
    }
    for append in appends {
        let refusal = match error {
            StoreError::Taken(what) => Refusal::Taken(what.clone()),
            other => Refusal::Unavailable(other.to_string()),
        };
        drop(append.reply.send(Err(refusal)));
    }
}

/// Decides and writes; answers whoever was written or refused. What could not be written comes back with the reason.
async fn attempt(
    shared: &Shared,
    journal: &Journal,
    appends: Vec<Append>,
) -> Result<(), (StoreError, Vec<Append>)> {
    let mut batch = match journal.begin().await {
        Ok(batch) => batch,
        Err(error) => return Err((error, appends)),
    };
    if other_journal(&shared.snapshot().head, batch.head()) {
        drop(batch);
        catch_up(shared, journal).await;
        return Err((StoreError::Replaced, appends));
    }
    let mut draft = match current(shared, &mut batch).await {
        Ok(draft) => draft,
        Err(error) => return Err((error, appends)),
    };
    let mut guards = match Guards::look(&mut batch, &appends).await {
        Ok(guards) => guards,
        Err(error) => return Err((error, appends)),
    };
    let mut decided: Vec<(Append, Option<RunId>)> = Vec::with_capacity(appends.len());
    let mut appends = appends.into_iter();
    while let Some(append) = appends.next() {
        match draft.decide(shared, &mut batch, &mut guards, &append).await {
            Ok(Ok(run)) => decided.push((append, run)),
            Ok(Err(refusal)) => drop(append.reply.send(Err(refusal))),
            Err(error) => {
                let back = decided.into_iter().map(|d| d.0).chain([append]);
                return Err((error, back.chain(appends).collect()));
            }
        }
    }
    match finish(shared, journal, batch, draft).await {
        Ok(revision) => {
            shared.answers(true);
            for (append, run) in decided {
                drop(append.reply.send(Ok((revision, run))));
            }
            Ok(())
        }
        Err(error) => Err((error, decided.into_iter().map(|d| d.0).collect())),
    }
}

/// Everything as it is under the lock.
async fn current(shared: &Shared, batch: &mut Batch) -> Result<Draft, StoreError> {
    let ours = shared.snapshot();
    let world = under_lock(&ours.head, ours.world(), batch).await?;
    Ok(Draft::of(world))
}

async fn finish(
    shared: &Shared,
    journal: &Journal,
    mut batch: Batch,
    mut draft: Draft,
) -> Result<Revision, StoreError> {
    let head = batch.head().clone();
    if draft.is_empty() {
        // What others wrote was read on the way: whoever was refused because of it looks again with it.
        if head.revision > shared.snapshot().head.revision {
            let revision = head.revision;
            shared.publish(head, draft.world);
            return Ok(revision);
        }
        return Ok(head.revision);
    }
    let revision = Revision(head.revision.0 + 1);
    draft.world.estate.revision = revision;
    batch
        .write(revision, &draft.change, &draft.lines, &draft.requests)
        .await?;
    batch.write_orders(&draft.done, &draft.new).await?;
    let ordered = !draft.new.is_empty();
    commit(journal, batch, revision).await?;
    shared.publish(Head { revision, ..head }, draft.world);
    if ordered {
        shared.orders.notify_one();
    }
    Ok(revision)
}

/// A COMMIT whose answer is lost is neither done nor not: the batch is looked up until the database says.
pub(super) async fn commit(
    journal: &Journal,
    batch: Batch,
    revision: Revision,
) -> Result<(), StoreError> {
    let id = Uuid::new_v4();
    match batch.commit(revision, id).await {
        Err(StoreError::Unknown(error)) => {
            for _ in 0..40 {
                sleep(Duration::from_millis(250)).await;
                if let Ok(found) = journal.was_written(id).await {
                    return if found.is_some() {
                        Ok(())
                    } else {
                        Err(StoreError::Unavailable(error))
                    };
                }
            }
            Err(StoreError::Unknown(error))
        }
        other => other,
    }
}
