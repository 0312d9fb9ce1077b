//! Which recovery points stay: the last few, and the first of each of the last few hours, days, weeks, months and years.

use crate::{
    moment::{Moment, Span},
    recurrence::{there, zone},
};
use chrono::{Datelike, Timelike};
use serde::{Deserialize, Serialize};
use std::{collections::BTreeSet, fmt, str::FromStr};

/// More of one kind are not kept.
const MOST: u16 = 1000;

#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Keeps {
    #[serde(default)]
    pub last: u16,
    #[serde(default)]
    pub hours: u16,
    #[serde(default)]
    pub days: u16,
    #[serde(default)]
    pub weeks: u16,
    #[serde(default)]
    pub months: u16,
    #[serde(default)]
    pub years: u16,
}

/// A kind of period; its name for one of them.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Period {
    Hour,
    Day,
    Week,
    Month,
    Year,
}

const PERIODS: [Period; 5] = [
    Period::Hour,
    Period::Day,
    Period::Week,
    Period::Month,
    Period::Year,
];

impl Period {
    fn word(self) -> &'static str {
        match self {
            Period::Hour => "hour",
            Period::Day => "day",
            Period::Week => "week",
            Period::Month => "month",
            Period::Year => "year",
        }
    }

    /// What all moments of one period have in common, and of no other.
    fn of(self, at: Moment, zone: rrule::Tz) -> Option<(i32, u32, u32)> {
        let at = there(at, zone)?;
        Some(match self {
            Period::Hour => (at.year(), at.ordinal(), at.hour()),
            Period::Day => (at.year(), at.ordinal(), 0),
            Period::Week => (at.iso_week().year(), at.iso_week().week(), 0),
            Period::Month => (at.year(), at.month(), 0),
            Period::Year => (at.year(), 0, 0),
        })
    }
}

impl Keeps {
    fn each(&self) -> [(Period, u16); 5] {
        let counts = [self.hours, self.days, self.weeks, self.months, self.years];
        let mut n = 0;
        PERIODS.map(|p| {
            n += 1;
            (p, counts[n - 1])
        })
    }

    fn slot(&mut self, word: &str) -> Option<&mut u16> {
        Some(match word.strip_suffix('s').unwrap_or(word) {
            "last" => &mut self.last,
            "hour" => &mut self.hours,
            "day" => &mut self.days,
            "week" => &mut self.weeks,
            "month" => &mut self.months,
            "year" => &mut self.years,
            _ => return None,
        })
    }

    /// The places of those that stay, of moments that ascend. The newest always does.
    pub fn stay(&self, points: &[Moment], zone_name: &str) -> BTreeSet<usize> {
        let zone = zone(zone_name).unwrap_or(rrule::Tz::UTC);
        let n = points.len();
        let mut stay: BTreeSet<usize> = n.checked_sub(1).into_iter().collect();
        stay.extend(n.saturating_sub(usize::from(self.last))..n);
        for (period, count) in self.each() {
            let mut firsts: Vec<(usize, Option<_>)> = Vec::new();
            for (place, at) in points.iter().enumerate() {
                let of = period.of(*at, zone);
                if firsts.last().is_none_or(|(_, last)| *last != of) {
                    firsts.push((place, of));
                }
            }
            let newest = firsts.iter().rev().take(usize::from(count));
            stay.extend(newest.map(|(place, _)| *place));
        }
        stay
    }

    /// How many of each kind there are at most, and how far these are apart; `between` lies between two points.
    pub fn tiers(&self, between: Span) -> [(u16, Span); 6] {
        let days = |n: u64| Span::days(n);
        [
            (self.last, between),
            (self.hours, Span::mins(60)),
            (self.days, days(1)),
            (self.weeks, days(7)),
            (self.months, days(30)),
            (self.years, days(365)),
        ]
    }

    /// How old the oldest that stays becomes at least, by the periods alone: how far apart the last few are nobody knows.
    pub fn reach(&self) -> Span {
        let periods = self.tiers(Span::millis(0)).into_iter();
        let spans = periods.map(|(n, every)| Span(every.0.saturating_mul(u64::from(n))));
        spans.max().unwrap_or(Span::millis(0))
    }

    /// As many are there at once, at most.
    pub fn most(&self) -> u32 {
        let periods = self.each().into_iter().map(|(_, n)| u32::from(n));
        u32::from(self.last) + periods.sum::<u32>()
    }
}

impl fmt::Display for Keeps {
    /// `last 3, 7 days, 4 weeks`
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let last = (self.last > 0).then(|| format!("last {}", self.last));
        let periods = self.each().into_iter().filter(|(_, n)| *n > 0);
        let each = periods.map(|(p, n)| match n {
            1 => format!("1 {}", p.word()),
            n => format!("{n} {}s", p.word()),
        });
        let all: Vec<String> = last.into_iter().chain(each).collect();
        f.write_str(&all.join(", "))
    }
}

impl FromStr for Keeps {
    type Err = String;

    fn from_str(text: &str) -> Result<Keeps, String> {
        let wrong = || {
            format!("“{text}” is not understood; write it as: last 3, 7 days, 4 weeks, 12 months.")
        };
        let mut keeps = Keeps::default();
        for piece in text.split(',').map(str::trim).filter(|p| !p.is_empty()) {
            let lower = piece.to_lowercase();
            let mut words = lower.split_whitespace();
            let (a, b) = (
                words.next().unwrap_or_default(),
                words.next().unwrap_or_default(),
            );
            let (count, word) = if a == "last" { (b, a) } else { (a, b) };
            let count: u16 = count.parse().map_err(|_| wrong())?;
            let slot = keeps.slot(word).ok_or_else(wrong)?;
            if words.next().is_some() || *slot != 0 {
                return Err(wrong());
            }
            if count > MOST {
                return Err(format!("No more than {MOST} of a kind are kept."));
            }
            *slot = count;
        }
        match keeps.most() {
            0 => Err("At least one stays; write how many, as: 7 days, 4 weeks.".into()),
            _ => Ok(keeps),
        }
    }
}
