//! The runs of all jobs in the days to come, laid on the lines that carry them: those to one place come one after the other, the
//! earliest due first; a job whose run is not over when it is due again is skipped.

use super::Foretold;
use crate::{
    estate::Goal,
    ids::JobId,
    caps::Cap,
    moment::{Moment, Span},
    units::{Bytes, Rate},
    view::View,
};
use std::collections::BTreeMap;

/// What is not over by then is over at no time that a picture shows.
const NEVER: Span = Span::days(90);

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
    /// What a run copies, and how fast if nobody else copies.
    pub bytes: Bytes,
    pub rate: Rate,
    /// In which hours.
    pub cap: Cap,
    pub at: Vec<Moment>,
}

/// What is to come, from what was foretold of each job.
pub fn to_come(view: &View, now: Moment, ahead: Span) -> Vec<Laid> {
    let jobs = view.estate.jobs.values().filter(|j| !j.paused);
    let due = jobs.map(|job| {
        let between = job.when.least(now).unwrap_or(Span::days(1));
        let foretold = Foretold::of(view, job);
        let (rate, cap) = foretold.pace();
        Due {
            job: job.id,
            to: job.to,
            bytes: foretold.each(between).0,
            rate,
            cap,
            at: job.when.between(now, now.plus(ahead)),
        }
    });
    lay(&due.collect::<Vec<_>>())
}

/// By when they can begin; of those that can at once, by their numbers. What rests holds up nobody, and what is due again while it
/// rests is skipped.
pub fn lay(all: &[Due]) -> Vec<Laid> {
    let each = all.iter().flat_map(|d| {
        let opens = move |at: &Moment| d.cap.opens(*at).unwrap_or_else(|| at.plus(NEVER));
        d.at.iter().map(move |at| (opens(at), *at, d))
    });
    let mut due: Vec<(Moment, Moment, &Due)> = each.collect();
    due.sort_by_key(|(opens, at, d)| (*opens, d.job, *at));
    let mut free: BTreeMap<Goal, Moment> = BTreeMap::new();
    let mut over: BTreeMap<JobId, (Moment, Moment)> = BTreeMap::new();
    let one = |(opens, at, of): (Moment, Moment, &Due)| {
        let job = of.job;
        let goes_on = |(began, end): &(Moment, Moment)| *end > opens || *began == opens;
        if over.get(&job).is_some_and(goes_on) {
            return Laid { job, due: at, runs: None };
        }
        let turn = free.get(&of.to).map_or(opens, |f| opens.max(*f));
        let begins = of.cap.opens(turn).unwrap_or(turn);
        let ends = of.cap.ends(of.bytes, of.rate, begins).unwrap_or_else(|| begins.plus(NEVER));
        free.insert(of.to, ends);
        over.insert(job, (opens, ends));
        Laid { job, due: at, runs: Some((begins, ends)) }
    };
    due.into_iter().map(one).collect()
}
