//! Beginning a new history: after a restore, or where a copy gave orders, a person says that what the database holds is what
//! counts from now on. What was under way in the old history is nobody's: each such step waits for a person to look.

use super::{Decision, batch::Draft};
use crate::shared::{Shared, now};
use std::sync::Arc;
use uuid::Uuid;
use zastrugi_core::{
    epoch::Epoch,
    ids::{Revision, RunId},
    permits::Who,
    road::{Entry, Input, turn},
    runs::{Fault, FaultKind, Phase},
    view::View,
};
use zastrugi_store::{EventLine, Journal, StoreError};

/// Begins a history above every number that was seen at devices. Answers it, with the revision at which it stands.
pub(crate) async fn begin(shared: &Shared, who: Who) -> Result<(Epoch, Revision), StoreError> {
    let journal = Journal::new(shared.pool.clone());
    let (head, world) = journal.load().await?;
    let mut batch = journal.begin().await?;
    if *batch.head() != head {
        return Err(StoreError::Replaced);
    }
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
    batch.commit(revision, Uuid::new_v4()).await?;
    Ok((epoch, revision))
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
