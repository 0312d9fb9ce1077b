//! Starting runs and answering them.

use super::{Desk, Viewer};
use crate::{
    scribe::{By, Decision, Guard, Refusal, Scribe, Sight},
    shared::{Shared, now},
};
use std::{
    sync::Arc,
    time::{Duration, Instant},
};
use uuid::Uuid;
use zastrugi_core::{
    finding::Finding,
    ids::{Revision, RunId},
    permits::{Permits, Who},
    road::{Correction, Input, Seen, Uncorrected, begin, correct, turn},
    rooms::{Assessment, Event, Proposal, assess},
    view::View,
};

/// Why a run was not started. Nothing was done.
#[derive(Debug, thiserror::Error)]
pub enum StartError {
    #[error("{}", .1.first().map_or("A check stops this.", |f| f.text.as_str()))]
    Blocked(Box<Assessment>, Vec<Finding>),
    #[error("the estate changed since you looked; look at the consequences again")]
    Stale(Box<Assessment>),
    #[error("something with this {0} is there already")]
    Taken(String),
    #[error("your role does not allow this any more")]
    NotAllowed,
    #[error("orders are held: {0}")]
    Held(String),
    #[error("so much is changing that it could not be placed; try again")]
    Busy,
    #[error("{0}")]
    Unavailable(String),
}

/// What a person says to a run.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Resolve {
    Cancel,
    /// Failed steps are tried again.
    Retry,
    /// What failed is left as it is, where that may be, and the rest goes on.
    PassOver,
    /// A failed step gets other values, and what was done with the old ones is done again.
    Correct(Correction),
}

#[derive(Debug, thiserror::Error, PartialEq, Eq)]
pub enum AnswerError {
    #[error("your role does not allow this")]
    NotAllowed,
    #[error("this run is over")]
    Over,
    /// Nothing was changed.
    #[error("{}", .0.first().map_or("It goes on already.", |f| f.text.as_str()))]
    Wrong(Vec<Finding>),
    #[error("the answer was not kept: {0}")]
    Unavailable(String),
}

impl Desk {
    /// Assesses again inside the head lock, and starts if nothing got worse than what was `seen`.
    ///
    /// # Errors
    /// [`StartError`]; the fresh consequences are in it where they matter.
    pub async fn start(
        &self,
        viewer: &Viewer,
        ask: Proposal,
        seen: Option<Seen>,
        request: Uuid,
    ) -> Result<RunId, StartError> {
        let wish = Wish {
            who: viewer.who(),
            by: By::Person(viewer.id, viewer.role),
            permits: viewer.permits(),
            ask,
            seen,
            request,
        };
        start_as(&self.shared, &self.scribe, wish).await
    }

    /// # Errors
    /// [`AnswerError`] when the viewer may not, the run is over, or the database does not answer.
    pub async fn answer(
        &self,
        viewer: &Viewer,
        run: RunId,
        answer: Resolve,
    ) -> Result<(), AnswerError> {
        let Some(plan) = self.plan(run) else {
            return Err(AnswerError::Over);
        };
        if !plan.ask.allowed(&viewer.permits()) {
            return Err(AnswerError::NotAllowed);
        }
        let who = viewer.who();
        if matches!(answer, Resolve::Correct(_)) {
            // What a corrected step may be given instead.
            self.before_installing(&[]).await;
        }
        let guard = Guard::Person(viewer.id, viewer.role);
        let told = self.scribe.append(guard, move |sight| {
            if !sight.view.runs.contains(run) {
                return Err(Refusal::NotOurs);
            }
            Ok(Decision {
                events: answered(&sight, run, &answer)?,
                who: who.clone(),
                run: Some(run),
                request: None,
            })
        });
        match told.await {
            Ok(_) => Ok(()),
            Err(Refusal::NotOurs) => Err(AnswerError::Over),
            Err(Refusal::NotAllowed) => Err(AnswerError::NotAllowed),
            Err(Refusal::Wrong(found)) => Err(AnswerError::Wrong(found)),
            Err(other) => Err(AnswerError::Unavailable(words(&other))),
        }
    }
}

/// What follows from an answer, inside the head lock.
fn answered(sight: &Sight<'_>, run: RunId, answer: &Resolve) -> Result<Vec<Event>, Refusal> {
    let input = match answer {
        Resolve::Cancel => Input::Cancel,
        Resolve::Retry => Input::Retry,
        Resolve::PassOver => Input::PassOver,
        Resolve::Correct(correction) => {
            let corrected = correct(sight.view, sight.plans, run, correction, sight.at);
            return corrected.map_err(|why| match why {
                Uncorrected::Over => Refusal::Wrong(vec![]),
                Uncorrected::Wrong(found) => Refusal::Wrong(found),
            });
        }
    };
    Ok(turn(sight.view, sight.plans, run, input, sight.at))
}

fn words(refusal: &Refusal) -> String {
    match refusal {
        Refusal::Unavailable(why) | Refusal::Taken(why) => why.clone(),
        _ => "it changed in the meantime".into(),
    }
}

/// What somebody wants to have started.
#[derive(Clone)]
pub(crate) struct Wish {
    pub(crate) who: Who,
    /// A person's role is the one that the permits come from.
    pub(crate) by: By,
    pub(crate) permits: Permits,
    pub(crate) ask: Proposal,
    pub(crate) seen: Option<Seen>,
    pub(crate) request: Uuid,
}

impl Wish {
    fn guard(&self) -> Guard {
        Guard::Request {
            id: self.request,
            by: self.by,
        }
    }
    fn begin(&self, sight: &Sight<'_>, fresh: Assessment) -> Result<Decision, Refusal> {
        let accepted = fresh.clone().accept();
        let accepted =
            accepted.map_err(|blocked| Refusal::Blocked(Box::new(fresh), blocked.stops))?;
        let (view, plans) = (sight.view, sight.plans);
        let (who, request) = (self.who.clone(), self.request);
        let (run, events) = begin(view, plans, accepted, who.clone(), request, sight.at);
        Ok(Decision {
            events,
            who,
            run: Some(run),
            request: Some(request),
        })
    }
}

/// How often it is searched anew because what it rests on has changed.
const SEARCHES: u32 = 3;
/// The longest that one search may take.
const LONGEST: Duration = Duration::from_secs(20);
/// A search that may be done inside the head lock.
const SHORT: Duration = Duration::from_millis(50);

/// Searches outside the head lock and confirms inside: others are not kept waiting by a long search.
pub(crate) async fn start_as(
    shared: &Arc<Shared>,
    scribe: &Scribe,
    wish: Wish,
) -> Result<RunId, StartError> {
    // What nobody asked for waits until it is let go, and nothing is computed for it.
    if let (By::Itself, Some(why)) = (wish.by, &shared.snapshot().head.automation) {
        return Err(StartError::Held(why.clone()));
    }
    let mut took = Duration::MAX;
    for _ in 0..SEARCHES {
        let began = Instant::now();
        let (view, fresh) = search(shared, &wish).await?;
        took = began.elapsed();
        match confirm(scribe, &wish, view, fresh).await {
            Err(Refusal::Moved) => {}
            decided => return begun(decided),
        }
    }
    // Where all moves so fast that it moved each time, a short search may be done while the others wait.
    if took > SHORT {
        return Err(StartError::Busy);
    }
    begun(inside(scribe, wish).await)
}

fn begun(decided: Result<(Revision, Option<RunId>), Refusal>) -> Result<RunId, StartError> {
    match decided {
        Ok((_, Some(run))) | Err(Refusal::Known(run)) => Ok(run),
        Ok((_, None)) => Err(StartError::Unavailable("nothing was decided".into())),
        Err(refusal) => Err(refused(refusal)),
    }
}

/// Whether what was computed may begin, as whoever asked saw it.
fn passes(wish: &Wish, fresh: &Assessment) -> Result<(), Refusal> {
    if fresh.blocked() {
        let stops = fresh.findings().iter().filter(|f| f.stops());
        let stops = stops.cloned().collect();
        return Err(Refusal::Blocked(Box::new(fresh.clone()), stops));
    }
    let worse = |seen: &Seen| fresh.is_worse_than(seen);
    if wish.seen.as_ref().is_some_and(worse) {
        return Err(Refusal::Stale(Box::new(fresh.clone())));
    }
    Ok(())
}

/// Computed anew inside the head lock.
async fn inside(scribe: &Scribe, wish: Wish) -> Result<(Revision, Option<RunId>), Refusal> {
    let guard = wish.guard();
    let decide = move |sight: Sight<'_>| {
        let fresh = assess(sight.view, &wish.permits, &wish.ask, sight.at);
        passes(&wish, &fresh)?;
        wish.begin(&sight, fresh)
    };
    scribe.append(guard, decide).await
}

fn refused(refusal: Refusal) -> StartError {
    match refusal {
        Refusal::Blocked(assessment, stops) => StartError::Blocked(assessment, stops),
        Refusal::Stale(assessment) => StartError::Stale(assessment),
        Refusal::Taken(what) => StartError::Taken(what),
        Refusal::NotAllowed => StartError::NotAllowed,
        Refusal::Held(why) => StartError::Held(why),
        Refusal::Unavailable(why) => StartError::Unavailable(why),
        Refusal::Moved | Refusal::NotOurs | Refusal::Known(_) | Refusal::Wrong(_) => {
            StartError::Unavailable("it changed in the meantime".into())
        }
    }
}

/// On the blocking pool, few at a time, and not for ever.
async fn search(shared: &Arc<Shared>, wish: &Wish) -> Result<(View, Assessment), StartError> {
    let stopping = || StartError::Unavailable("the process is stopping".into());
    let permit = shared.searches.clone().acquire_owned().await;
    let permit = permit.map_err(|_| stopping())?;
    let (view, permits, ask) = (shared.view(), wish.permits, wish.ask.clone());
    let seen = view.clone();
    let work = tokio::task::spawn_blocking(move || {
        let _held_until_done = permit;
        assess(&view, &permits, &ask, now())
    });
    match tokio::time::timeout(LONGEST, work).await {
        Ok(Ok(fresh)) => Ok((seen, fresh)),
        Ok(Err(_)) => Err(StartError::Unavailable(
            "Zastrugi failed while it computed this; its log says where".into(),
        )),
        Err(_) => Err(StartError::Unavailable(format!(
            "it was not computed within {} seconds; ask for less at a time",
            LONGEST.as_secs()
        ))),
    }
}

async fn confirm(
    scribe: &Scribe,
    wish: &Wish,
    searched: View,
    fresh: Assessment,
) -> Result<(Revision, Option<RunId>), Refusal> {
    passes(wish, &fresh)?;
    let (guard, wish) = (wish.guard(), wish.clone());
    let decide = move |sight: Sight<'_>| {
        if !fresh.still_holds(&searched.estate, &sight.view.estate) {
            return Err(Refusal::Moved);
        }
        wish.begin(&sight, fresh.clone())
    };
    scribe.append(guard, decide).await
}
