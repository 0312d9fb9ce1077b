//! Recovery points of a machine on a time line, against what was promised: where none was young enough, it is hatched.

use crate::frame::{Px, time};
use askama::Template;
use zastrugi_core::{
    estate::{Consistent, Estate, Machine, Taker},
    moment::{Moment, Span},
    pledges::{Demand, Promise},
};

const WIDE: f64 = 960.0;
/// Room for names at the left.
const LEFT: f64 = 150.0;
/// More points are as many strokes as there is room for.
const MOST: usize = 400;

struct Mark {
    x: Px,
    title: String,
}

struct Gap {
    x: Px,
    wide: Px,
    title: String,
}

/// What an array says it does by itself: a band, for it names no single point.
struct Band {
    y: Px,
    /// Often enough for what is promised.
    enough: bool,
    words: String,
}

#[derive(Template)]
#[template(path = "places/protect/line.html")]
pub(super) struct Line {
    from: String,
    words: String,
    marks: Vec<Mark>,
    gaps: Vec<Gap>,
    bands: Vec<Band>,
    ticks: Vec<(Px, String)>,
    high: Px,
    /// The same in words: when, and what kind.
    points: Vec<(String, &'static str)>,
    more: usize,
}

/// Promised intervals that are shown, and the least time that is worth a picture.
const INTERVALS: u64 = 6;
const LEAST: Span = Span::mins(360);

impl Line {
    /// None: no recovery point is promised.
    pub(super) fn of(estate: &Estate, m: &Machine, promise: &Promise, now: Moment) -> Option<Line> {
        let points = promise.judged.iter().filter_map(|j| match &j.demand {
            Demand::Point(p) => Some(p),
            Demand::Storage(_) | Demand::Kept(_) | Demand::Remote(_) | Demand::Tier(_) => None,
        });
        let (every, taker) = points.map(|p| (p.every, p.taker)).min_by_key(|p| p.0)?;
        let span = Span(every.0.saturating_mul(INTERVALS)).max(LEAST);
        let from = now.before(span);
        let x = |at: Moment| LEFT + at.since(from).0 as f64 / span.0 as f64 * (WIDE - LEFT);
        let taken: Vec<(Moment, Consistent, &str)> = m
            .snapshots
            .all
            .iter()
            .map(|s| (s.taken, s.consistent, s.name.as_str()))
            .collect();
        let shown: Vec<_> = taken.iter().filter(|(at, ..)| *at >= from).collect();
        let marks = shown.iter().rev().take(MOST).map(|(at, kind, name)| Mark {
            x: Px(x(*at)),
            title: format!("{name}, {}", kind.word()),
        });
        let bands = bands(estate, m, every);
        // What the arrays do often enough needs no snapshot beside it; and where none counts, none is missed.
        let by_arrays = !bands.is_empty() && bands.iter().all(|b| b.enough);
        let missed = taker == Taker::Snapshot || (taker == Taker::Any && !by_arrays);
        let more = taken.len().saturating_sub(12);
        Some(Line {
            from: time(from),
            words: format!(
                "{} in {}; a recovery point every {every} is promised, {}",
                match shown.len() {
                    1 => "1 snapshot".to_owned(),
                    n => format!("{n} snapshots"),
                },
                span,
                taker.words()
            ),
            gaps: gaps(&taken, every, from.max(m.created), now)
                .into_iter()
                .filter(|_| missed)
                .map(|(a, b)| Gap {
                    x: Px(x(a.max(from))),
                    wide: Px((x(b) - x(a.max(from))).max(1.0)),
                    title: format!("no snapshot younger than {every} for {}", b.since(a)),
                })
                .collect(),
            marks: marks.collect(),
            high: Px(58.0 + 26.0 * bands.len() as f64),
            bands,
            ticks: (0..=4_u64).map(|n| tick(span, n)).collect(),
            points: taken
                .iter()
                .rev()
                .take(12)
                .map(|(at, kind, _)| (time(*at), kind.word()))
                .collect(),
            more,
        })
    }
}

fn tick(span: Span, n: u64) -> (Px, String) {
    let back = Span(span.0 / 4 * (4 - n));
    let x = LEFT + n as f64 / 4.0 * (WIDE - LEFT);
    (
        Px(x.min(WIDE - 4.0)),
        if n == 4 {
            "now".into()
        } else {
            format!("{back} ago")
        },
    )
}

/// What the arrays beneath it do by themselves.
fn bands(estate: &Estate, m: &Machine, every: Span) -> Vec<Band> {
    let said = m.volumes().into_iter().filter_map(|v| {
        let volume = estate.volumes.get(&v)?;
        let array = estate.arrays.get(&volume.backing.as_ref()?.array)?;
        let snaps = array.served.get(&v)?.service.snapshots.as_ref()?;
        let keep = snaps
            .keep
            .map_or_else(String::new, |k| format!(", kept {k}"));
        let words = format!(
            "{} says: a snapshot of {} every {}{keep}",
            array.name, volume.name, snaps.every
        );
        Some((words, snaps.every <= every))
    });
    said.enumerate()
        .map(|(n, (words, enough))| Band {
            y: Px(48.0 + 26.0 * n as f64),
            enough,
            words,
        })
        .collect()
}

/// Stretches of time between `from` and `to` in which the newest point was older than promised.
fn gaps(
    points: &[(Moment, Consistent, &str)],
    every: Span,
    from: Moment,
    to: Moment,
) -> Vec<(Moment, Moment)> {
    let mut all = Vec::new();
    let mut covered: Option<Moment> = None;
    let mut times: Vec<Moment> = points
        .iter()
        .map(|(at, ..)| *at)
        .filter(|at| *at <= to)
        .collect();
    times.sort();
    for at in times {
        let end = at.plus(every);
        let open = covered.unwrap_or(from);
        if at > open.max(from) && at > from {
            all.push((open.max(from), at));
        }
        covered = Some(covered.map_or(end, |c| c.max(end)));
    }
    let open = covered.unwrap_or(from).max(from);
    if open < to {
        all.push((open, to));
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    /// If this fails, the picture shows a machine covered when it was not, or the other way round.
    #[test]
    fn it_is_hatched_exactly_where_no_point_was_young_enough() {
        let at = |minutes: i64| Moment(minutes * 60_000);
        let points = |all: &[i64]| {
            all.iter()
                .map(|m| (at(*m), Consistent::Crash, ""))
                .collect::<Vec<_>>()
        };
        let of = |all: &[i64]| {
            let found = gaps(&points(all), Span::mins(60), at(0), at(600));
            found
                .iter()
                .map(|(a, b)| (a.0 / 60_000, b.0 / 60_000))
                .collect::<Vec<_>>()
        };
        assert_eq!(of(&[]), [(0, 600)]);
        assert_eq!(
            of(&[-30, 20, 80, 140]),
            [(200, 600)],
            "one before the picture counts"
        );
        assert_eq!(of(&[100, 300, 590]), [(0, 100), (160, 300), (360, 590)]);
        assert_eq!(of(&[-90, 10]), [(0, 10), (70, 600)]);
        // Minute by minute, the long way.
        let all = [5, 90, 95, 240, 500];
        for minute in 0..600 {
            let young = all.iter().any(|p| *p <= minute && minute < p + 60);
            let hatched = of(&all).iter().any(|(a, b)| *a <= minute && minute < *b);
            assert_eq!(young, !hatched, "minute {minute}");
        }
    }
}
