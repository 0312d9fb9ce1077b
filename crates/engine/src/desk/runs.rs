//! Starting runs and answering them.

use super::{Desk, Viewer};
use crate::scribe::{Decision, Guard, Refusal, Scribe};
use uuid::Uuid;
use zastrugi_core::{
    assess::{Assessment, Seen, assess},
    finding::Finding,
    ids::RunId,
    permits::{Permits, Who},
    proposal::Proposal,
    run::{Input, begin, turn},
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
    #[error("nothing was started: {0}")]
    Unavailable(String),
}

/// What a person says to a run.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Answer {
    Cancel,
    /// Failed steps are tried again.
    Retry,
}

#[derive(Debug, thiserror::Error, PartialEq, Eq)]
pub enum AnswerError {
    #[error("your role does not allow this")]
    NotAllowed,
    #[error("this run is over")]
    Over,
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
        start_as(
            &self.scribe,
            viewer.who(),
            viewer.permits(),
            ask,
            seen,
            request,
        )
        .await
    }

    /// # Errors
    /// [`AnswerError`] when the viewer may not, the run is over, or the database does not answer.
    pub async fn answer(
        &self,
        viewer: &Viewer,
        run: RunId,
        answer: Answer,
    ) -> Result<(), AnswerError> {
        let estate = self.shared.estate();
        let Some(plan) = estate.plans.get(&run) else {
            return Err(AnswerError::Over);
        };
        if !viewer.permits().allow(plan.ask.act()) {
            return Err(AnswerError::NotAllowed);
        }
        let who = viewer.who();
        let input = match answer {
            Answer::Cancel => Input::Cancel,
            Answer::Retry => Input::Retry,
        };
        let told = self.scribe.append(Guard::None, move |view, at| {
            if !view.estate.runs.contains_key(&run) {
                return Err(Refusal::NotOurs);
            }
            let events = turn(view, run, input, at);
            Ok(Decision {
                events,
                who,
                run: Some(run),
                request: None,
            })
        });
        match told.await {
            Ok(_) => Ok(()),
            Err(Refusal::NotOurs) => Err(AnswerError::Over),
            Err(other) => Err(AnswerError::Unavailable(words(&other))),
        }
    }
}

fn words(refusal: &Refusal) -> String {
    match refusal {
        Refusal::Unavailable(why) | Refusal::Taken(why) => why.clone(),
        _ => "it changed in the meantime".into(),
    }
}

pub(crate) async fn start_as(
    scribe: &Scribe,
    who: Who,
    permits: Permits,
    ask: Proposal,
    seen: Option<Seen>,
    request: Uuid,
) -> Result<RunId, StartError> {
    let started = scribe.append(Guard::Request(request), move |view, at| {
        let fresh = assess(view, &permits, &ask, at);
        if fresh.blocked() {
            let kept = fresh.clone();
            return match fresh.accept() {
                Err(blocked) => Err(Refusal::Blocked(Box::new(kept), blocked)),
                Ok(_) => Err(Refusal::NotOurs),
            };
        }
        if seen.is_some_and(|seen| fresh.is_worse_than(&seen)) {
            return Err(Refusal::Stale(Box::new(fresh)));
        }
        let kept = fresh.clone();
        let accepted = fresh
            .accept()
            .map_err(|blocked| Refusal::Blocked(Box::new(kept), blocked))?;
        let (run, events) = begin(view, accepted, who.clone(), request, at);
        Ok(Decision {
            events,
            who,
            run: Some(run),
            request: Some(request),
        })
    });
    match started.await {
        Ok((_, Some(run))) | Err(Refusal::Known(run)) => Ok(run),
        Ok((_, None)) | Err(Refusal::NotOurs) => {
            Err(StartError::Unavailable("it changed in the meantime".into()))
        }
        Err(Refusal::Blocked(assessment, blocked)) => {
            Err(StartError::Blocked(assessment, blocked.stops))
        }
        Err(Refusal::Stale(assessment)) => Err(StartError::Stale(assessment)),
        Err(Refusal::Taken(what)) => Err(StartError::Taken(what)),
        Err(Refusal::Unavailable(why)) => Err(StartError::Unavailable(why)),
    }
}
