//! Beginning a new history: after a restore, or where a copy gave orders, a person says that what the database holds is what
//! counts from now on. What was under way in the old history is nobody's: each such step waits for a person to look.

use super::{
    Decision,
    batch::Draft,
    follow::{other_journal, under_lock},
    write::commit,
};
use crate::shared::{Shared, now};
use std::sync::Arc;
use zastrugi_core::{
    epoch::Epoch,
    ids::{Revision, RunId},
    permits::Who,
    road::{Entry, Input, turn},
    rooms::World,
    runs::{Fault, FaultKind, Phase},
    view::View,
};
use zastrugi_store::{Batch, EventLine, Journal, StoreError};

/// Begins a history above every number that was seen at devices. Answers it, with the revision at which it stands.
pub(crate) async fn begin(shared: &Shared, who: Who) -> Result<(Epoch, Revision), StoreError> {
    let journal = Journal::new(shared.pool.clone());
    let (mut batch, world) = locked(&journal).await?;
    let head = batch.head().clone();
    let mut draft = Draft::of(world);
    let at = now();
    for (run, step) in under_way(&draft) {
        let view = View {
            estate: Arc::new(draft.world.estate.clone()),
            runs: Arc::new(draft.world.runs.clone()),
            ..shared.view()
        };
        let input = Input::Failed {
            step,
            fault: lost(),
        };
        let events = turn(&view, &draft.world.plans, run, input, at);
        let decision = Decision {
            events,
            who: who.clone(),
            run: Some(run),
            request: None,
        };
        draft.take(decision, at);
    }
    // What is ordered now would be an order of the old history.
    draft.new.clear();
    let epoch = batch.begin_history(shared.highest_seen()).await?;
    let text = match &head.held {
        Some(why) => format!("History {epoch} was begun. {why}"),
        None => format!("History {epoch} was begun"),
    };
    draft.lines.push(EventLine {
        at,
        who,
        run: None,
        entry: Entry::new("history", text, vec![]),
    });
    let revision = Revision(head.revision.0 + 1);
    batch
        .write(revision, &draft.change, &draft.lines, &[])
        .await?;
    commit(&journal, batch, revision).await?;
    Ok((epoch, revision))
}

/// The lock, with everything as it is under it. Reading everything takes long, so it is done before the lock; what is
/// appended meanwhile is read under it.
async fn locked(journal: &Journal) -> Result<(Batch, World), StoreError> {
    loop {
        let (known, world) = journal.load().await?;
        let mut batch = journal.begin().await?;
        if !other_journal(&known, batch.head()) {
            let world = under_lock(&known, world, &mut batch).await?;
            return Ok((batch, world));
        }
    }
}

fn under_way(draft: &Draft) -> Vec<(RunId, usize)> {
    let runs = draft.world.runs.iter();
    runs.flat_map(|run| run.in_phase(Phase::Running).map(|(n, _)| (run.id, n)))
        .collect()
}

fn lost() -> Fault {
    Fault::new(
        FaultKind::History,
        "The database was brought back to an earlier state while this was under way.",
        "Look at the device what became of it; then retry, or cancel the run.",
    )
}
