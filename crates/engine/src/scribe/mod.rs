//! The scribe: one task that owns the current state. What wants to be appended is decided here, inside the head lock, in
//! batches (`write`); notifications of other processes are its other input (`follow`).

mod batch;
mod follow;
mod guards;
pub(crate) mod history;
mod write;

use crate::shared::Shared;
use std::sync::Arc;
use tokio::{
    sync::{mpsc, oneshot},
    task::JoinSet,
};
use uuid::Uuid;
use zastrugi_core::{
    finding::Finding,
    ids::{PersonId, Revision, RunId},
    moment::Moment,
    permits::{Role, Who},
    rooms::{Assessment, Event, Plans},
    view::View,
};
use zastrugi_store::{Held, Journal};

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

/// By whose will a run begins.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum By {
    /// Somebody asks, who must still have this role.
    Person(PersonId, Role),
    /// Nobody: it waits as long as nothing is begun by itself.
    Itself,
    /// It follows from what somebody began, and does not wait.
    Consequence,
}

/// Why nothing was written.
#[derive(Debug)]
pub(crate) enum Refusal {
    Blocked(Box<Assessment>, Vec<Finding>),
    Stale(Box<Assessment>),
    /// What it rests on is another now: look again, outside the lock.
    Moved,
    /// What somebody typed can't be so; none where there is nothing to correct.
    Wrong(Vec<Finding>),
    /// The order, the lease or the run is not ours any more.
    NotOurs,
    /// Whoever asked may not do this any more.
    NotAllowed,
    /// All orders are held until a person releases them, for this reason.
    Held(String),
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
    /// A sheet's request, which makes one run; nobody's, or that of a person who still has this role.
    Request {
        id: Uuid,
        by: By,
    },
    /// A person who still has this role.
    Person(PersonId, Role),
}

/// What a decision sees.
pub(crate) struct Sight<'a> {
    pub(crate) view: &'a View,
    pub(crate) plans: &'a Plans,
    pub(crate) at: Moment,
}

/// Decides again where its batch could not be written: it must not use anything up.
type Decide = Arc<dyn Fn(Sight<'_>) -> Result<Decision, Refusal> + Send + Sync>;
type Reply = oneshot::Sender<Result<(Revision, Option<RunId>), Refusal>>;

struct Append {
    guard: Guard,
    decide: Decide,
    reply: Reply,
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
        decide: impl Fn(Sight<'_>) -> Result<Decision, Refusal> + Send + Sync + 'static,
    ) -> Result<(Revision, Option<RunId>), Refusal> {
        let (reply, answer) = oneshot::channel();
        let ended = || Refusal::Unavailable("the process is stopping".into());
        self.appends
            .send(Append {
                guard,
                decide: Arc::new(decide),
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
    match shared.stands_by {
        true => tasks.spawn(follow::poll(behind)),
        false => tasks.spawn(follow::listen(shared.clone(), behind)),
    };
    tasks.spawn(work(shared, journal, inbox, news));
    Scribe { appends }
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
                write::write(&shared, &journal, batch).await;
            }
            told = news.recv() => {
                if told.is_none() { return }
                while news.try_recv().is_ok() {}
                follow::catch_up(&shared, &journal).await;
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Engine, EngineSettings};
    use futures::future::join_all;
    use zastrugi_core::{
        estate::Site,
        ids::SiteId,
        rooms::{Event, sites},
    };
    use zastrugi_store::testkit::url;

    /// If this fails, one value that the database can't hold takes the writes of everybody else with it.
    #[sqlx::test(migrations = false)]
    async fn one_append_that_the_database_refuses_fails_alone(pool: sqlx::PgPool) {
        let engine = Engine::start(EngineSettings::new(url(&pool), [1; 32]))
            .await
            .unwrap();
        let desk = engine.desk();
        let site = |n: u64| {
            let name = if n == 50 {
                "a\0b".into()
            } else {
                format!("site-{n}")
            };
            desk.scribe().append(Guard::None, move |_: Sight<'_>| {
                let site = Site {
                    id: SiteId(1000 + n),
                    name: name.clone(),
                };
                Ok(Decision {
                    events: vec![Event::Sites(sites::Event::Added(site))],
                    ..Decision::nothing(Who::itself())
                })
            })
        };
        let all = join_all((0..200).map(site)).await;
        let refused: Vec<usize> = (0..200).filter(|n| all[*n].is_err()).collect();
        assert_eq!(refused, [50]);
        assert_eq!(desk.look().estate.sites.len(), 199);
        let Err(Refusal::Unavailable(words)) = &all[50] else {
            panic!("{:?}", all[50]);
        };
        assert_eq!(words, "the database can't store this", "no words of SQL");
    }
}
