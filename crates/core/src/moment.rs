//! Points in time and lengths of time. Core never reads a clock: a [`Moment`] is always an argument.

use serde::{Deserialize, Serialize};
use std::fmt;

/// Milliseconds since 1970-01-01T00:00:00Z.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default, Serialize, Deserialize,
)]
#[serde(transparent)]
pub struct Moment(pub i64);

/// A length of time in milliseconds.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default, Serialize, Deserialize,
)]
#[serde(transparent)]
pub struct Span(pub u64);

impl Span {
    pub const fn millis(ms: u64) -> Self {
        Self(ms)
    }
    pub const fn secs(s: u64) -> Self {
        Self(s * 1000)
    }
    pub const fn mins(m: u64) -> Self {
        Self(m * 60_000)
    }
    pub const fn days(d: u64) -> Self {
        Self(d * 86_400_000)
    }
    pub fn plus(self, other: Span) -> Span {
        Span(self.0.saturating_add(other.0))
    }
}

impl std::str::FromStr for Span {
    type Err = String;

    /// As a person would say it: `30 s`, `5 min`, `2 h`, `3 days`.
    fn from_str(text: &str) -> Result<Span, String> {
        let wrong = || {
            let shown: String = text.chars().take(60).collect();
            format!("“{shown}” is no length of time; write it as 30 s, 5 min, 2 h or 3 days.")
        };
        let text = text.trim();
        let at = text.find(|c: char| !c.is_ascii_digit());
        let (count, unit) = text.split_at(at.ok_or_else(wrong)?);
        let count: u64 = count.parse().map_err(|_| wrong())?;
        let each = match unit.trim() {
            "s" => Span::secs(1),
            "min" => Span::mins(1),
            "h" => Span::mins(60),
            "day" | "days" => Span::days(1),
            _ => return Err(wrong()),
        };
        count.checked_mul(each.0).map(Span).ok_or_else(wrong)
    }
}

impl Moment {
    pub fn plus(self, span: Span) -> Moment {
        Moment(
            self.0
                .saturating_add(i64::try_from(span.0).unwrap_or(i64::MAX)),
        )
    }
    pub fn before(self, span: Span) -> Moment {
        Moment(
            self.0
                .saturating_sub(i64::try_from(span.0).unwrap_or(i64::MAX)),
        )
    }
    /// In UTC, to the minute: `2026-11-29 22:00`.
    pub fn stamp(self) -> String {
        let minutes = self.0.div_euclid(60_000);
        let (days, of_day) = (minutes.div_euclid(1440), minutes.rem_euclid(1440));
        let (year, month, day) = civil(days);
        format!(
            "{year:04}-{month:02}-{day:02} {:02}:{:02}",
            of_day / 60,
            of_day % 60
        )
    }
    /// The time from `earlier` to here; zero if it lies ahead.
    pub fn since(self, earlier: Moment) -> Span {
        Span(u64::try_from(self.0.saturating_sub(earlier.0)).unwrap_or(0))
    }
}

/// Year, month and day of a number of days since 1970-01-01 (Hinnant, *chrono-Compatible Low-Level Date Algorithms*, `civil_from_days`).
fn civil(days: i64) -> (i64, i64, i64) {
    let z = days + 719_468;
    let era = z.div_euclid(146_097);
    let doe = z.rem_euclid(146_097);
    let yoe = (doe - doe / 1460 + doe / 36_524 - doe / 146_096) / 365;
    let doy = doe - (365 * yoe + yoe / 4 - yoe / 100);
    let mp = (5 * doy + 2) / 153;
    let day = doy - (153 * mp + 2) / 5 + 1;
    let month = if mp < 10 { mp + 3 } else { mp - 9 };
    (yoe + era * 400 + i64::from(month <= 2), month, day)
}

impl fmt::Display for Span {
    /// As a person would say it: `0.4 s`, `12 s`, `5 min`, `2 h 10 min`, `3 days`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let s = self.0 / 1000;
        match self.0 {
            0..950 => write!(f, "0.{} s", (self.0 + 50) / 100),
            950..89_500 => write!(f, "{} s", (self.0 + 500) / 1000),
            89_500..5_400_000 => write!(f, "{} min", (s + 30) / 60),
            5_400_000..172_800_000 => {
                let (h, m) = (s / 3600, (s % 3600) / 60);
                if m == 0 {
                    write!(f, "{h} h")
                } else {
                    write!(f, "{h} h {m} min")
                }
            }
            _ => write!(f, "{} days", s / 86_400),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn spans_read_as_a_person_would_say_them() {
        let said = |ms| Span(ms).to_string();
        assert_eq!(said(400), "0.4 s");
        assert_eq!(said(596), "0.6 s");
        assert_eq!(said(999), "1 s");
        assert_eq!(said(58_900), "59 s");
        assert_eq!(said(89_000), "89 s");
        assert_eq!(said(300_000), "5 min");
        assert_eq!(said(7_800_000), "2 h 10 min");
        assert_eq!(said(3 * 86_400_000), "3 days");
    }

    #[test]
    fn since_never_goes_below_zero() {
        assert_eq!(Moment(5).since(Moment(9)), Span(0));
        assert_eq!(Moment(9).since(Moment(5)), Span(4));
    }
}
