//! When is it full? The slope of a volume's fill by Theil and Sen, with the interval of Sen (1968), and silence where
//! there is too little to go by (rules, section 8).

use crate::units::Bytes;
use std::fmt;

/// What the points say of the time until full.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Forecast {
    /// Fewer than seven points.
    TooEarly { points: usize },
    /// Nothing rises: the interval of the slope reaches down to zero.
    NoTrend,
    /// Days from the last point; soonest and latest by the 90 % interval of the slope.
    Full {
        days: f64,
        soonest: f64,
        latest: f64,
    },
}

/// The fewest points that an answer rests on.
pub const LEAST: usize = 7;
/// The 0.95 quantile of the standard normal distribution, for a two-sided interval of 90 %.
const Z: f64 = 1.644_853_6;

impl fmt::Display for Forecast {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Forecast::TooEarly { points } => write!(
                f,
                "When it is full: too early to say, {points} of {LEAST} daily points."
            ),
            Forecast::NoTrend => f.write_str("When it is full: no trend."),
            Forecast::Full {
                days,
                soonest,
                latest,
            } => write!(
                f,
                "Full in about {days:.0} days ({soonest:.0} to {latest:.0}), if it goes on so."
            ),
        }
    }
}

/// `points` are (days, bytes written) in time order, `capacity` is where it ends. O(n² log n) in the number of points.
pub fn full(points: &[(f64, Bytes)], capacity: Bytes) -> Forecast {
    let n = points.len();
    if n < LEAST {
        return Forecast::TooEarly { points: n };
    }
    let mut slopes = Vec::with_capacity(n * (n - 1) / 2);
    for (i, a) in points.iter().enumerate() {
        for b in &points[i + 1..] {
            let span = b.0 - a.0;
            if span > 0.0 {
                slopes.push((b.1.as_f64() - a.1.as_f64()) / span);
            }
        }
    }
    slopes.sort_by(f64::total_cmp);
    let Some(middle) = middle(&slopes) else {
        return Forecast::TooEarly { points: n };
    };
    let (low, high) = interval(&slopes, n);
    if low <= 0.0 {
        return Forecast::NoTrend;
    }
    let left = points
        .last()
        .map_or(0.0, |last| capacity.as_f64() - last.1.as_f64())
        .max(0.0);
    Forecast::Full {
        days: left / middle,
        soonest: left / high,
        latest: left / low,
    }
}

fn middle(sorted: &[f64]) -> Option<f64> {
    let n = sorted.len();
    let upper = sorted.get(n / 2)?;
    if n % 2 == 1 {
        return Some(*upper);
    }
    Some((sorted.get(n / 2 - 1)? + upper) / 2.0)
}

/// The order statistics around the median that Kendall's S leaves possible: with N slopes and
/// C = z √(n(n−1)(2n+5)/18), those at (N − C)/2 and (N + C)/2.
fn interval(sorted: &[f64], n: usize) -> (f64, f64) {
    let count = sorted.len();
    let n = float(n);
    let c = Z * (n * (n - 1.0) * (2.0 * n + 5.0) / 18.0).sqrt();
    let at = |rank: f64| {
        let i = index(rank, count);
        sorted.get(i).copied().unwrap_or(0.0)
    };
    let all = float(count);
    (
        at(((all - c) / 2.0).floor() - 1.0),
        at(((all + c) / 2.0).ceil()),
    )
}

fn float(n: usize) -> f64 {
    u32::try_from(n).map_or(f64::MAX, f64::from)
}

#[expect(
    clippy::cast_possible_truncation,
    clippy::cast_sign_loss,
    reason = "clamped to the slice before"
)]
fn index(rank: f64, count: usize) -> usize {
    let last = float(count.saturating_sub(1));
    rank.clamp(0.0, last) as usize
}

#[cfg(test)]
mod tests {
    use super::*;

    fn line(days: u32, start: u64, slope: u64, wobble: &[u64]) -> Vec<(f64, Bytes)> {
        (0..days)
            .map(|d| {
                let extra = wobble
                    .get(d as usize % wobble.len().max(1))
                    .copied()
                    .unwrap_or(0);
                (
                    f64::from(d),
                    Bytes::gib(start + slope * u64::from(d) + extra),
                )
            })
            .collect()
    }

    #[test]
    fn six_points_are_too_few() {
        let said = full(&line(6, 100, 5, &[]), Bytes::gib(1000));
        assert_eq!(said, Forecast::TooEarly { points: 6 });
    }

    #[test]
    fn a_straight_line_ends_where_it_must() {
        // 100 GiB + 9 days of 10 = 190; 810 left at 10 a day.
        let said = full(&line(10, 100, 10, &[]), Bytes::gib(1000));
        assert!(
            matches!(said, Forecast::Full { days, soonest, latest }
                if (days - 81.0).abs() < 1e-9 && (soonest - 81.0).abs() < 1e-9 && (latest - 81.0).abs() < 1e-9),
            "{said:?}"
        );
    }

    #[test]
    fn one_wild_day_does_not_move_it() {
        let mut points = line(15, 100, 10, &[]);
        points[7].1 = Bytes::gib(900);
        let Forecast::Full { days, .. } = full(&points, Bytes::gib(1000)) else {
            panic!("a trend is there");
        };
        assert!(
            (days - 76.0).abs() < 2.0,
            "{days}: 760 GiB left at 10 a day"
        );
    }

    #[test]
    fn noise_without_slope_is_no_trend_and_emptying_neither() {
        assert_eq!(
            full(
                &line(20, 500, 0, &[3, 1, 4, 1, 5, 9, 2, 6]),
                Bytes::gib(1000)
            ),
            Forecast::NoTrend
        );
        let mut down = line(20, 100, 10, &[]);
        down.reverse();
        for (d, p) in down.iter_mut().enumerate() {
            p.0 = d as f64;
        }
        assert_eq!(full(&down, Bytes::gib(1000)), Forecast::NoTrend);
    }

    #[test]
    fn the_interval_holds_the_truth_and_narrows_with_more_days() {
        let wobble = [0, 7, 2, 9, 4, 1, 8, 3];
        let width = |days| match full(&line(days, 100, 10, &wobble), Bytes::gib(2000)) {
            Forecast::Full {
                soonest,
                latest,
                days: middle,
            } => {
                assert!(soonest <= middle && middle <= latest);
                let truth = (2000.0 - 100.0) / 10.0 - f64::from(days - 1);
                assert!(
                    soonest <= truth + 1.0 && truth - 1.0 <= latest,
                    "{soonest} {truth} {latest}"
                );
                (latest - soonest) / middle
            }
            other => panic!("{other:?}"),
        };
        assert!(width(28) < width(8));
    }

    use proptest::prelude::*;

    proptest! {
        /// More room lasts at least as long, and the middle lies between the bounds.
        #[test]
        fn more_room_never_lasts_shorter(
            daily in prop::collection::vec(0u64..40, 7..30),
            room in 1u64..500,
        ) {
            let mut used = 100;
            let points: Vec<(f64, Bytes)> = daily
                .iter()
                .enumerate()
                .map(|(d, more)| {
                    used += more;
                    (float(d), Bytes::gib(used))
                })
                .collect();
            let at = |extra: u64| full(&points, Bytes::gib(used + room + extra));
            match (at(0), at(100)) {
                (Forecast::Full { days, soonest, latest }, Forecast::Full { days: more, .. }) => {
                    prop_assert!(soonest <= days && days <= latest);
                    prop_assert!(days <= more);
                }
                (a, b) => prop_assert_eq!(a, b, "room alone never makes a trend"),
            }
        }

        /// The days that the points are counted from don't matter.
        #[test]
        fn only_differences_between_days_count(daily in prop::collection::vec(1u64..9, 7..20), shift in 0u32..30_000) {
            let points = |from: f64| -> Vec<(f64, Bytes)> {
                let mut used = 0;
                let day = |(d, more): (usize, &u64)| {
                    used += more;
                    (from + float(d), Bytes::gib(used))
                };
                daily.iter().enumerate().map(day).collect()
            };
            let (a, b) = (full(&points(0.0), Bytes::gib(900)), full(&points(f64::from(shift)), Bytes::gib(900)));
            match (a, b) {
                (Forecast::Full { days: x, .. }, Forecast::Full { days: y, .. }) => prop_assert!((x - y).abs() < 1e-6),
                (a, b) => prop_assert_eq!(a, b),
            }
        }
    }

    #[test]
    fn a_full_volume_is_full_today() {
        let said = full(&line(10, 100, 10, &[]), Bytes::gib(150));
        assert!(
            matches!(said, Forecast::Full { days, .. } if days == 0.0),
            "{said:?}"
        );
    }

    #[test]
    fn the_words_say_how_sure_they_are() {
        let full = Forecast::Full {
            days: 81.4,
            soonest: 70.2,
            latest: 99.9,
        };
        assert_eq!(
            full.to_string(),
            "Full in about 81 days (70 to 100), if it goes on so."
        );
        let early = Forecast::TooEarly { points: 3 };
        assert!(early.to_string().contains("3 of 7 daily points"));
        assert!(Forecast::NoTrend.to_string().contains("no trend"));
    }
}
