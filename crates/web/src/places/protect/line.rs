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

/// What lies in one place, on a line of its own.
struct Lane {
    name: String,
    y: Px,
    marks: Vec<Mark>,
    gaps: Vec<Gap>,
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
    lanes: Vec<Lane>,
    bands: Vec<Band>,
    ticks: Vec<(Px, String)>,
    high: Px,
    /// The same in words: when, and what kind.
    points: Vec<(String, &'static str, String)>,
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
            Demand::Storage(_)
            | Demand::Kept(_)
            | Demand::Remote(_)
            | Demand::Proved(_)
            | Demand::Back(_)
            | Demand::Tier(_) => None,
        });
        let (every, taker) = points.map(|p| (p.every, p.taker)).min_by_key(|p| p.0)?;
        let span = Span(every.0.saturating_mul(INTERVALS)).max(LEAST);
        let from = now.before(span);
        let x = |at: Moment| LEFT + at.since(from).0 as f64 / span.0 as f64 * (WIDE - LEFT);
        let places = places(estate, m);
        let bands = bands(estate, m, every, places.len());
        // What the arrays do often enough needs no snapshot beside it; and where none counts, none is missed.
        let by_arrays = !bands.is_empty() && bands.iter().all(|b| b.enough);
        let missed = taker == Taker::Snapshot || (taker == Taker::Any && !by_arrays);
        let mut all: Vec<&Taken> = places.iter().flat_map(|(_, taken)| taken).collect();
        all.sort_by_key(|t| std::cmp::Reverse(t.0));
        let shown = all.iter().filter(|t| t.0 >= from).count();
        let counts = |n: usize| n == 0 || taker == Taker::Any;
        let hatched = gaps(&places, every, (from.max(m.created), now), counts);
        let lane = |(n, (name, taken)): (usize, &(String, Vec<Taken>))| Lane {
            name: name.clone(),
            y: Px(lane_at(n)),
            marks: taken
                .iter()
                .rev()
                .filter(|t| t.0 >= from)
                .take(MOST)
                .map(|(at, kind, words)| Mark {
                    x: Px(x(*at)),
                    title: format!("{words}, {}", kind.word()),
                })
                .collect(),
            gaps: hatched
                .iter()
                .filter(|_| missed && counts(n))
                .map(|(a, b)| Gap {
                    x: Px(x((*a).max(from))),
                    wide: Px((x(*b) - x((*a).max(from))).max(1.0)),
                    title: format!("no point younger than {every} for {}", b.since(*a)),
                })
                .collect(),
        };
        let lanes: Vec<Lane> = places.iter().enumerate().map(lane).collect();
        let more = all.len().saturating_sub(12);
        Some(Line {
            from: time(from),
            words: format!(
                "{} in {}; a recovery point every {every} is promised, {}",
                match shown {
                    1 => "1 point".to_owned(),
                    n => format!("{n} points"),
                },
                span,
                taker.words()
            ),
            high: Px(lane_at(lanes.len()) + 22.0 + 26.0 * bands.len() as f64),
            lanes,
            bands,
            ticks: (0..=4_u64).map(|n| tick(span, n)).collect(),
            points: all
                .iter()
                .take(12)
                .map(|(at, kind, words)| (time(*at), kind.word(), words.clone()))
                .collect(),
            more,
        })
    }
}

/// When, how, and what it is called.
type Taken = (Moment, Consistent, String);

/// Where the line of a place begins.
fn lane_at(n: usize) -> f64 {
    10.0 + 30.0 * n as f64
}

/// What lies with the machine, then what each store and each other site has of it, by name.
fn places(estate: &Estate, m: &Machine) -> Vec<(String, Vec<Taken>)> {
    let own = m.snapshots.all.iter();
    let own = own.map(|s| (s.taken, s.consistent, format!("snapshot {}", s.name)));
    let mut stores: Vec<(String, Vec<Taken>)> = estate
        .elsewhere(m)
        .map(|there| {
            let words = format!("copy {}", there.placed());
            let points = there.points.iter();
            let points = points.map(|p| (p.taken, p.consistent, words.clone()));
            (there.name.to_owned(), points.collect())
        })
        .collect();
    stores.sort_by(|a, b| a.0.cmp(&b.0));
    let first = ("Snapshots".to_owned(), own.collect());
    std::iter::once(first).chain(stores).collect()
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
fn bands(estate: &Estate, m: &Machine, every: Span, lanes: usize) -> Vec<Band> {
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
            y: Px(lane_at(lanes) + 8.0 + 26.0 * n as f64),
            enough,
            words,
        })
        .collect()
}

/// Stretches of time between `from` and `to` in which the newest point was older than promised.
fn gaps(
    places: &[(String, Vec<Taken>)],
    every: Span,
    (from, to): (Moment, Moment),
    counts: impl Fn(usize) -> bool,
) -> Vec<(Moment, Moment)> {
    let mut all = Vec::new();
    let mut covered: Option<Moment> = None;
    let counted = places.iter().enumerate().filter(|(n, _)| counts(*n));
    let mut times: Vec<Moment> = counted
        .flat_map(|(_, (_, taken))| taken)
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
            let taken = all
                .iter()
                .map(|m| (at(*m), Consistent::Crash, String::new()));
            vec![(String::new(), taken.collect::<Vec<_>>())]
        };
        let of = |all: &[i64]| {
            let found = gaps(&points(all), Span::mins(60), (at(0), at(600)), |_| true);
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
