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
    estate::Condition,
    ids::{HostId, Revision, RunId},
    moment::Moment,
    permits::Who,
    road::{Entry, Input, turn},
    rooms::{Change, Event, World, absorb, hosts},
    runs::{Fault, FaultKind, Phase},
    view::View,
};
use zastrugi_store::{Batch, EventLine, Journal, StoreError};

/// Why a history begins.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum How {
    /// A person says that what the database holds is what counts.
    Anew,
    /// This manager took over from one that is gone.
    TakenOver,
}

impl How {
    /// Why nothing is begun by itself in it.
    fn automation(self) -> Option<&'static str> {
        match self {
            How::Anew => None,
            How::TakenOver => Some("This manager took over from another."),
        }
    }

    fn lost(self) -> Fault {
        let said = match self {
            How::Anew => {
                "The database was brought back to an earlier state while this was under way."
            }
            How::TakenOver => {
                "Another manager had this under way when its last word came; what became of it is not known here."
            }
        };
        Fault::new(
            FaultKind::History,
            said,
            "Look at the device what became of it; then retry, or cancel the run.",
        )
    }
}

/// Begins a history above every number that was seen at devices. Answers it, with the revision at which it stands.
pub(crate) async fn begin(
    shared: &Shared,
    who: Who,
    how: How,
) -> Result<(Epoch, Revision), StoreError> {
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
            fault: how.lost(),
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
    if how == How::TakenOver {
        no_host_was_heard(&mut draft, at);
        batch.end_leases().await?;
    }
    let begun = batch.begin_history(shared.highest_seen(), how.automation());
    let epoch = begun.await?;
    let text = match (&head.held, how) {
        (_, How::TakenOver) => format!(
            "This manager took over: history {epoch} was begun, from revision {} of the one before",
            head.revision
        ),
        (Some(why), How::Anew) => format!("History {epoch} was begun. {why}"),
        (None, How::Anew) => format!("History {epoch} was begun"),
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

/// What another manager heard says nothing of now: nothing is put on a host, and nothing is taken as proved, until it was heard
/// here. No line each in the Logbook: that it is heard is one.
fn no_host_was_heard(draft: &mut Draft, at: Moment) {
    let hosts = draft.world.estate.hosts.values();
    let steady =
        hosts.filter(|h| matches!(h.condition, Condition::Steady | Condition::Hangs { .. }));
    let steady: Vec<HostId> = steady.map(|h| h.id).collect();
    for host in steady {
        let condition = Condition::Lost {
            since: at,
            why: "it was not heard yet by the manager that took over".into(),
        };
        let event = Event::Hosts(hosts::Event::Condition { host, condition });
        let change = absorb(&mut draft.world, &event);
        draft.change.merge(change);
    }
}

/// What is begun by itself is begun again. Answers the revision at which it stands.
pub(crate) async fn let_go(shared: &Shared, who: Who) -> Result<Revision, StoreError> {
    let journal = Journal::new(shared.pool.clone());
    let mut batch = journal.begin().await?;
    let head = batch.head().clone();
    if head.automation.is_none() {
        return Ok(head.revision);
    }
    batch.let_go().await?;
    let line = EventLine {
        at: now(),
        who,
        run: None,
        entry: Entry::new("history", "What is begun by itself was let go", vec![]),
    };
    let revision = Revision(head.revision.0 + 1);
    batch
        .write(revision, &Change::default(), &[line], &[])
        .await?;
    commit(&journal, batch, revision).await?;
    Ok(revision)
}
