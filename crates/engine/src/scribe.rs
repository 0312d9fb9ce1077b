//! The scribe: one task that owns the current estate. What wants to be appended is decided here, inside the head lock,
//! in batches; notifications of other processes are its other input.

use crate::shared::{Shared, now};
use std::{sync::Arc, time::Duration};
use tokio::{
    sync::{mpsc, oneshot},
    task::JoinSet,
    time::sleep,
};
use uuid::Uuid;
use zastrugi_core::{
    assess::{Assessment, Blocked},
    estate::{Change, Estate, Touched},
    event::Event,
    ids::{Revision, RunId},
    moment::{Moment, Span},
    permits::Who,
    view::View,
};
use zastrugi_store::{Batch, EventLine, Held, Journal, NewOrder, News, StoreError};

/// The most appends of one batch.
const LARGEST: usize = 500;

/// What was decided, to be written.
pub(crate) struct Decision {
    pub(crate) events: Vec<Event>,
    pub(crate) who: Who,
    pub(crate) run: Option<RunId>,
    pub(crate) request: Option<Uuid>,
}

impl Decision {
    pub(crate) fn nothing(who: Who) -> Self {
        Decision {
            events: vec![],
            who,
            run: None,
            request: None,
        }
    }
}

/// Why nothing was written.
#[derive(Debug)]
pub(crate) enum Refusal {
    Blocked(Box<Assessment>, Blocked),
    Stale(Box<Assessment>),
    /// The order, the lease or the run is not ours any more.
    NotOurs,
    /// The sheet's request made this run already.
    Known(RunId),
    Taken(String),
    Unavailable(String),
}

/// What must still hold, checked in the same transaction.
#[derive(Debug, Clone, Copy)]
pub(crate) enum Guard {
    None,
    Order {
        run: RunId,
        step: usize,
        token: Uuid,
    },
    Leader(Held),
    Request(Uuid),
}

type Decide = Box<dyn FnOnce(&View, Moment) -> Result<Decision, Refusal> + Send>;

struct Append {
    guard: Guard,
    decide: Decide,
    reply: oneshot::Sender<Result<(Revision, Option<RunId>), Refusal>>,
}

#[derive(Clone)]
pub(crate) struct Scribe {
    appends: mpsc::Sender<Append>,
}

impl Scribe {
    /// Has something decided and written. Answers the revision at which it stands.
    pub(crate) async fn append(
        &self,
        guard: Guard,
        decide: impl FnOnce(&View, Moment) -> Result<Decision, Refusal> + Send + 'static,
    ) -> Result<(Revision, Option<RunId>), Refusal> {
        let (reply, answer) = oneshot::channel();
        let ended = || Refusal::Unavailable("the process is stopping".into());
        self.appends
            .send(Append {
                guard,
                decide: Box::new(decide),
                reply,
            })
            .await
            .map_err(|_| ended())?;
        answer.await.map_err(|_| ended())?
    }
}

pub(crate) fn spawn(tasks: &mut JoinSet<()>, shared: Arc<Shared>, journal: Journal) -> Scribe {
    let (appends, inbox) = mpsc::channel(LARGEST * 2);
    let (behind, news) = mpsc::channel(8);
    tasks.spawn(listen(shared.clone(), behind));
    tasks.spawn(work(shared, journal, inbox, news));
    Scribe { appends }
}

/// Rings whenever another process may have appended: on its notification, and every two seconds in any case.
async fn listen(shared: Arc<Shared>, behind: mpsc::Sender<()>) {
    loop {
        match News::listen(&shared.pool).await {
            Ok(mut news) => {
                while news.next(Duration::from_secs(2)).await.is_ok() {
                    if behind.send(()).await.is_err() {
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

async fn work(
    shared: Arc<Shared>,
    journal: Journal,
    mut inbox: mpsc::Receiver<Append>,
    mut news: mpsc::Receiver<()>,
) {
    loop {
        tokio::select! {
            first = inbox.recv() => {
                let Some(first) = first else { return };
                let mut batch = vec![first];
                while batch.len() < LARGEST && let Ok(next) = inbox.try_recv() {
                    batch.push(next);
                }
                write(&shared, &journal, batch).await;
            }
            told = news.recv() => {
                if told.is_none() { return }
                catch_up(&shared, &journal).await;
            }
        }
    }
}

fn apply(estate: &mut Estate, change: Change, revision: Revision) {
    for ((kind, id), touched) in change.touched {
        match touched {
            Touched::Put(fact) => estate.put(fact),
            Touched::Gone => estate.remove(kind, id),
        }
    }
    estate.revision = revision;
}

async fn catch_up(shared: &Shared, journal: &Journal) {
    let ours = shared.estate().revision;
    let caught = async {
        let head = journal.head().await?;
        if head < ours {
            // The database went back, as after a restore: what we hold is not true any more.
            return journal.load().await.map(Some);
        }
        if head == ours {
            return Ok(None);
        }
        let (revision, change) = journal.changed_since(ours).await?;
        let mut estate = Estate::clone(&shared.estate());
        apply(&mut estate, change, revision);
        Ok(Some(estate))
    };
    match caught.await {
        Ok(fresh) => {
            shared.answers(true);
            if let Some(estate) = fresh {
                shared.publish(estate);
                shared.orders.notify_one();
            }
        }
        Err::<_, StoreError>(error) => {
            shared.answers(false);
            tracing::warn!(%error, "the database is asked again");
        }
    }
}

/// Everything of one batch, before it is written.
struct Draft {
    estate: Estate,
    change: Change,
    lines: Vec<EventLine>,
    new: Vec<NewOrder>,
    done: Vec<(RunId, usize)>,
    requests: Vec<(Uuid, RunId)>,
}

async fn write(shared: &Shared, journal: &Journal, appends: Vec<Append>) {
    let alone = appends.len() == 1;
    let mut waiting = Vec::with_capacity(appends.len());
    let outcome = try_write(shared, journal, appends, &mut waiting).await;
    match outcome {
        Ok(revision) => {
            for (reply, run) in waiting {
                drop(reply.send(Ok((revision, run))));
            }
        }
        Err(error) => {
            if !matches!(error, StoreError::Taken(_)) {
                shared.answers(false);
            }
            tracing::warn!(%error, alone, "a batch was not written");
            for (reply, _) in waiting {
                drop(reply.send(Err(match &error {
                    StoreError::Taken(what) if alone => Refusal::Taken(what.clone()),
                    other => Refusal::Unavailable(other.to_string()),
                })));
            }
            sleep(Duration::from_millis(50)).await;
        }
    }
}

type Waiting = Vec<(
    oneshot::Sender<Result<(Revision, Option<RunId>), Refusal>>,
    Option<RunId>,
)>;

async fn try_write(
    shared: &Shared,
    journal: &Journal,
    appends: Vec<Append>,
    waiting: &mut Waiting,
) -> Result<Revision, StoreError> {
    let mut batch = match journal.begin().await {
        Ok(batch) => batch,
        Err(error) => {
            waiting.extend(appends.into_iter().map(|a| (a.reply, None)));
            return Err(error);
        }
    };
    let mut estate = Estate::clone(&shared.estate());
    let head = batch.head();
    if head < estate.revision {
        estate = journal.load().await?;
    } else if head > estate.revision {
        let change = batch.changed_since(estate.revision).await?;
        apply(&mut estate, change, head);
    }
    let mut draft = Draft {
        estate,
        change: Change::default(),
        lines: vec![],
        new: vec![],
        done: vec![],
        requests: vec![],
    };
    for append in appends {
        match decide(shared, &mut batch, &mut draft, append.guard, append.decide).await {
            Ok(run) => waiting.push((append.reply, run)),
            Err(Refusal::Unavailable(why)) => {
                waiting.push((append.reply, None));
                return Err(StoreError::Taken(why));
            }
            Err(refusal) => drop(append.reply.send(Err(refusal))),
        }
    }
    if draft.change.touched.is_empty()
        && draft.lines.is_empty()
        && draft.new.is_empty()
        && draft.done.is_empty()
    {
        shared.answers(true);
        return Ok(head);
    }
    let revision = Revision(head.0 + 1);
    draft.estate.revision = revision;
    batch
        .write(revision, &draft.change, &draft.lines, &draft.requests)
        .await?;
    batch.write_orders(&draft.done, &draft.new).await?;
    let ordered = !draft.new.is_empty();
    commit(journal, batch, revision).await?;
    shared.publish(draft.estate);
    shared.answers(true);
    if ordered {
        shared.orders.notify_one();
    }
    Ok(revision)
}

/// A COMMIT whose answer is lost is neither done nor not: the batch is looked up until the database says.
async fn commit(journal: &Journal, batch: Batch, revision: Revision) -> Result<(), StoreError> {
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

async fn holds(batch: &mut Batch, guard: Guard) -> Result<(), Refusal> {
    let ours = match guard {
        Guard::None => Ok(true),
        Guard::Order { run, step, token } => batch.holds(run, step, token).await,
        Guard::Leader(held) => batch.leads(held.holder, held.term).await,
        Guard::Request(request) => match batch.run_of(request).await {
            Ok(Some(run)) => return Err(Refusal::Known(run)),
            Ok(None) => Ok(true),
            Err(error) => Err(error),
        },
    };
    match ours {
        Ok(true) => Ok(()),
        Ok(false) => Err(Refusal::NotOurs),
        Err(error) => Err(Refusal::Unavailable(error.to_string())),
    }
}

async fn decide(
    shared: &Shared,
    batch: &mut Batch,
    draft: &mut Draft,
    guard: Guard,
    decide: Decide,
) -> Result<Option<RunId>, Refusal> {
    holds(batch, guard).await?;
    if let Guard::Request(request) = guard
        && let Some((_, run)) = draft.requests.iter().find(|(r, _)| *r == request)
    {
        return Err(Refusal::Known(*run));
    }
    let view = View {
        estate: Arc::new(draft.estate.clone()),
        loads: shared.loads.load_full(),
        evidence: shared.evidence.load_full(),
    };
    let at = now();
    let decision = decide(&view, at)?;
    if let Guard::Order { run, step, .. } = guard {
        draft.done.push((run, step));
    }
    if let (Some(request), Some(run)) = (decision.request, decision.run) {
        draft.requests.push((request, run));
    }
    for event in decision.events {
        fold(draft, &event, &decision.who, decision.run, at);
    }
    Ok(decision.run)
}

fn fold(draft: &mut Draft, event: &Event, who: &Who, run: Option<RunId>, at: Moment) {
    // Names of what goes away are only known before, names of what comes only after.
    let before = event.tell(&draft.estate);
    let change = draft.estate.absorb(event);
    let goes = change.touched.values().any(|t| *t == Touched::Gone);
    // The watcher and the run may both say what a machine does; it is told once.
    let again = change.touched.is_empty() && matches!(event, Event::MachineSeen { .. });
    let told = if again {
        None
    } else if goes {
        before
    } else {
        event.tell(&draft.estate)
    };
    draft.change.merge(change);
    if let Event::Ordered {
        run,
        step,
        attempt,
        after_ms,
    } = event
    {
        draft.new.push(NewOrder {
            run: *run,
            step: *step,
            attempt: *attempt,
            after: Span(*after_ms),
        });
    }
    let run = match event {
        Event::RunStarted { run, .. } | Event::RunMoved { run, .. } => Some(run.id),
        _ => run,
    };
    draft.lines.extend(told.map(|told| EventLine {
        at,
        who: who.clone(),
        run,
        told,
    }));
}

#[cfg(test)]
mod tests {
    use super::*;
    use zastrugi_core::{
        estate::{Fact, Site},
        ids::SiteId,
    };

    #[test]
    fn a_foreign_change_brings_the_estate_to_the_same_state() {
        let mut first = Estate::default();
        let event = Event::SiteAdded(Site {
            id: SiteId(3),
            name: "Quayside".into(),
        });
        let change = first.absorb(&event);
        first.revision = Revision(1);
        let mut second = Estate::default();
        apply(&mut second, change, Revision(1));
        assert_eq!(first, second);
        assert!(second.facts().any(|f| matches!(f, Fact::Site(_))));
    }
}
