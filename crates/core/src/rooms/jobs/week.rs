//! The runs of all jobs in the days to come, laid on the lines that carry them: those to one place come one after the other, the
//! earliest due first; a job whose run is not over when it is due again is skipped.

use super::Foretold;
use crate::{
    estate::Goal,
    ids::JobId,
    moment::{Moment, Span},
    view::View,
};
use std::collections::BTreeMap;

/// A run to come.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Laid {
    pub job: JobId,
    pub due: Moment,
    /// When it is its turn and when it is over; none: it is skipped.
    pub runs: Option<(Moment, Moment)>,
}

/// A job as far as it matters here.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Due {
    pub job: JobId,
    pub to: Goal,
    /// What a run takes if nobody else copies.
    pub takes: Span,
    pub at: Vec<Moment>,
}

/// What is to come, from what was foretold of each job.
pub fn to_come(view: &View, now: Moment, ahead: Span) -> Vec<Laid> {
    let jobs = view.estate.jobs.values().filter(|j| !j.paused);
    let due = jobs.map(|job| {
        let between = job.when.least(now).unwrap_or(Span::days(1));
        Due {
            job: job.id,
            to: job.to,
            takes: Foretold::of(view, job).each(between).1,
            at: job.when.between(now, now.plus(ahead)),
        }
    });
    lay(&due.collect::<Vec<_>>())
}

/// By when they are due; of those due at once, by their numbers.
pub fn lay(all: &[Due]) -> Vec<Laid> {
    let mut due: Vec<(Moment, JobId, &Due)> = all.iter().flat_map(|d| d.at.iter().map(move |at| (*at, d.job, d))).collect();
    due.sort_by_key(|(at, job, _)| (*at, *job));
    let mut free: BTreeMap<Goal, Moment> = BTreeMap::new();
    let mut over: BTreeMap<JobId, Moment> = BTreeMap::new();
    let one = |(at, job, of): (Moment, JobId, &Due)| {
        if over.get(&job).is_some_and(|end| *end > at) {
            return Laid { job, due: at, runs: None };
        }
        let begins = free.get(&of.to).map_or(at, |f| at.max(*f));
        let ends = begins.plus(of.takes);
        free.insert(of.to, ends);
        over.insert(job, ends);
        Laid { job, due: at, runs: Some((begins, ends)) }
    };
    due.into_iter().map(one).collect()
}
