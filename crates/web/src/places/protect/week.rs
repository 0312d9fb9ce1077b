//! The days to come of jobs, as a picture: when each is due, how long its runs take, and what is late or skipped.

use super::jobs::{AHEAD, begins};
use askama::Template;
use std::collections::BTreeMap;
use std::fmt::Write;
use zastrugi_core::{
    ids::JobId,
    moment::{Moment, Span},
    rooms::jobs::{Laid, to_come},
    view::View,
};

/// Units of the picture: the width of seven days, the height of a lane.
const WIDTH: u64 = 1000;
const LANE: u64 = 22;
/// Names stand before it.
const LEFT: u64 = 150;
/// More lanes are in the list alone.
const LANES: usize = 40;

struct Lane {
    name: String,
    y: u64,
    /// Runs that begin when they are due, those that begin later, and those that are skipped, each as one path.
    runs: String,
    late: String,
    skipped: String,
    said: String,
}

#[derive(Template)]
#[template(path = "places/protect/week.html")]
pub(super) struct Week {
    lanes: Vec<Lane>,
    /// Where each day begins, with its date.
    days: Vec<(u64, String)>,
    height: u64,
    width: u64,
    sentence: String,
}

/// Where a moment stands.
fn at(from: Moment, moment: Moment) -> u64 {
    LEFT + moment.since(from).0.saturating_mul(WIDTH) / AHEAD.0
}

fn bar(path: &mut String, from: Moment, (begins, ends): (Moment, Moment), y: u64) {
    let (x, end) = (at(from, begins), at(from, ends).min(LEFT + WIDTH));
    let width = end.saturating_sub(x).max(2);
    // Writing to text does not fail.
    let _ = write!(path, "M{x} {y}h{width}v10h-{width}z");
}

fn lane(n: usize, name: &str, from: Moment, runs: &[Laid]) -> Lane {
    let y = 26 + n as u64 * LANE;
    let mut lane = Lane {
        name: name.to_owned(),
        y: y + 9,
        runs: String::new(),
        late: String::new(),
        skipped: String::new(),
        said: String::new(),
    };
    let (mut most, mut late, mut skipped) = (Span::millis(0), 0, 0);
    for run in runs {
        match run.runs {
            Some((begins, ends)) if begins == run.due => {
                bar(&mut lane.runs, from, (begins, ends), y)
            }
            Some((begins, ends)) => {
                late += 1;
                most = most.max(begins.since(run.due));
                bar(&mut lane.late, from, (begins, ends), y);
            }
            None => {
                skipped += 1;
                bar(&mut lane.skipped, from, (run.due, run.due), y);
            }
        }
    }
    lane.said = match (late, skipped) {
        (0, 0) => format!("{} runs, none late", runs.len()),
        (late, 0) => format!("{} runs, {late} begin late, by {most} at most", runs.len()),
        (0, skipped) => format!("{} times due, {skipped} skipped", runs.len()),
        (late, skipped) => format!(
            "{} times due, {late} begin late, by {most} at most, {skipped} skipped",
            runs.len()
        ),
    };
    lane
}

impl Week {
    /// Of all jobs, or of one among the others.
    pub(super) fn of(view: &View, now: Moment, one: Option<JobId>) -> Week {
        let from = begins(now);
        let mut by_job: BTreeMap<JobId, Vec<Laid>> = BTreeMap::new();
        for laid in to_come(view, from, AHEAD) {
            by_job.entry(laid.job).or_default().push(laid);
        }
        let jobs = view.estate.jobs.values().filter(|j| !j.paused);
        let mut jobs: Vec<_> = jobs.filter(|j| one.is_none_or(|id| id == j.id)).collect();
        jobs.sort_by(|a, b| a.name.cmp(&b.name));
        let none: Vec<Laid> = vec![];
        let lanes: Vec<Lane> = jobs
            .iter()
            .take(LANES)
            .enumerate()
            .map(|(n, j)| lane(n, &j.name, from, by_job.get(&j.id).unwrap_or(&none)))
            .collect();
        let midnight = Moment((from.0.div_euclid(86_400_000) + 1) * 86_400_000);
        let days = (0..7).map(|d| midnight.plus(Span::days(d)));
        let days = days.map(|d| (at(from, d), d.stamp().chars().skip(5).take(5).collect()));
        let late = lanes
            .iter()
            .filter(|l| !l.late.is_empty() || !l.skipped.is_empty())
            .count();
        Week {
            sentence: match (lanes.len(), late) {
                (0, _) => String::new(),
                (_, 0) => {
                    "By what was measured, every run of the next seven days begins when it is due."
                        .into()
                }
                (1, _) => "By what was measured, some of its runs begin late in the next seven days, or are skipped.".into(),
                (_, 1) => "By what was measured, runs of one job begin late in the next seven days, or are skipped.".into(),
                (_, n) => format!(
                    "By what was measured, runs of {n} jobs begin late in the next seven days, or are skipped."
                ),
            },
            height: 30 + lanes.len() as u64 * LANE,
            days: days.collect(),
            lanes,
            width: LEFT + WIDTH,
        }
    }
}
