//! When something is done again and again: a recurrence rule (RFC 5545, section 3.3.10) in a time zone, with what RFC 5545 says of
//! local times that a change of the clock skips or repeats. Rules that recur within a day are counted in UTC: an hour is an hour.

use crate::moment::{Moment, Span};
use chrono::{DateTime, TimeZone, Timelike};
use rrule::{RRuleSet, Tz};
use serde::{Deserialize, Serialize};

/// Longer rules are of nobody.
const LONGEST: usize = 200;
/// More occurrences are not looked at at once.
const MOST: u16 = 1000;
/// What does not occur within so long never does.
const AHEAD: Span = Span::days(5 * 366);

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Recurrence {
    /// The value of an RRULE: `FREQ=DAILY;BYHOUR=22;BYMINUTE=0`.
    pub rule: String,
    /// A name of the IANA time zone database.
    pub zone: String,
    /// Nothing occurs before; what the rule leaves open is taken from it.
    pub begins: Moment,
}

/// A time zone by its name.
pub fn zone(name: &str) -> Option<Tz> {
    let known: chrono_tz::Tz = name.parse().ok()?;
    Some(Tz::from(known))
}

/// A date and a time of the day by the clocks of a zone, as `2026-12-05 22:00`.
///
/// # Errors
/// What is wrong with it, in words; also that clocks skip it. Of two at which they show it, it is the first.
pub fn instant(text: &str, zone_name: &str) -> Result<Moment, String> {
    let text = text.trim();
    let shown: String = text.chars().take(40).collect();
    let read = chrono::NaiveDateTime::parse_from_str(text, "%Y-%m-%d %H:%M");
    let read = read
        .map_err(|_| format!("“{shown}” is no date with a time; write it as 2026-12-05 22:00."))?;
    let zone = zone(zone_name).ok_or_else(|| {
        format!("There is no time zone “{zone_name}”; write one as Europe/Oslo or UTC.")
    })?;
    let there = zone.from_local_datetime(&read).earliest();
    let there = there.ok_or_else(|| {
        format!("At {shown} no clock in {zone_name} shows that: it is skipped there.")
    })?;
    Ok(moment(&there))
}

fn local(moment: Moment, zone: Tz) -> Option<DateTime<Tz>> {
    zone.timestamp_millis_opt(moment.0).single()
}

fn moment(at: &DateTime<Tz>) -> Moment {
    Moment(at.timestamp_millis())
}

/// The value of a part of a rule: `DAILY` of `FREQ`.
fn part<'a>(rule: &'a str, name: &str) -> Option<&'a str> {
    let parts = rule.split(';').filter_map(|p| p.split_once('='));
    parts
        .filter(|(n, _)| n.eq_ignore_ascii_case(name))
        .map(|(_, v)| v)
        .next()
}

impl Recurrence {
    /// # Errors
    /// What is wrong with it, in words.
    pub fn read(rule: &str, zone: &str, begins: Moment) -> Result<Recurrence, String> {
        let rule = rule.trim();
        let rule = rule.strip_prefix("RRULE:").unwrap_or(rule);
        let odd = |c: char| !(c.is_ascii_alphanumeric() || "=;,+-".contains(c));
        if rule.is_empty() || rule.len() > LONGEST || rule.contains(odd) {
            return Err(format!(
                "“{}” is no recurrence rule; write one as FREQ=DAILY;BYHOUR=22;BYMINUTE=0.",
                rule.chars().take(60).collect::<String>()
            ));
        }
        if self::zone(zone).is_none() {
            return Err(format!(
                "There is no time zone “{zone}”; write one as Europe/Oslo or UTC."
            ));
        }
        let freq = part(rule, "FREQ").unwrap_or_default().to_ascii_uppercase();
        let by_hour = part(rule, "BYHOUR").is_some();
        if freq == "SECONDLY" || (freq == "MINUTELY" && by_hour) {
            return Err("What recurs by seconds, or by minutes of certain hours, is not taken; use FREQ=HOURLY with BYMINUTE.".into());
        }
        let read = Recurrence {
            rule: rule.to_ascii_uppercase(),
            zone: zone.to_owned(),
            begins,
        };
        read.set()?;
        // It may be at the beginning of the minute in which it begins.
        match read.next(begins.before(Span::mins(1))) {
            Some(first) if first.since(begins) <= AHEAD => Ok(read),
            _ => Err("It never occurs within five years.".into()),
        }
    }

    /// A moment by the clocks of its zone: `2026-12-05 22:00`.
    pub fn local(&self, at: Moment) -> String {
        let zone = zone(&self.zone).unwrap_or(Tz::UTC);
        local(at, zone).map_or_else(String::new, |t| t.format("%Y-%m-%d %H:%M").to_string())
    }

    /// Whether it recurs within a day.
    fn often(&self) -> bool {
        matches!(part(&self.rule, "FREQ"), Some("HOURLY" | "MINUTELY"))
    }

    fn set(&self) -> Result<RRuleSet, String> {
        let zone = match self.often() {
            true => Tz::UTC,
            false => zone(&self.zone).ok_or("Its time zone is not known.")?,
        };
        let begins = local(self.begins, zone).ok_or("It begins at no time.")?;
        // Seconds are of no use to anybody.
        let begins = begins.with_second(0).unwrap_or(begins);
        let stamp = begins.format("%Y%m%dT%H%M%S");
        let start = match self.often() {
            true => format!("DTSTART:{stamp}Z"),
            false => format!("DTSTART;TZID={}:{stamp}", self.zone),
        };
        let text = format!("{start}\nRRULE:{}", self.rule);
        text.parse()
            .map_err(|e| format!("It can't be read as a recurrence rule: {e}."))
    }

    /// The first occurrence after a moment.
    pub fn next(&self, after: Moment) -> Option<Moment> {
        self.after(after, 1).into_iter().next()
    }

    /// The first few after a moment, in their order.
    pub fn after(&self, after: Moment, most: u16) -> Vec<Moment> {
        let (Ok(set), Some(from)) = (self.set(), local(after.plus(Span::millis(1)), Tz::UTC))
        else {
            return vec![];
        };
        let found = set.after(from).all(most.min(MOST));
        found.dates.iter().map(moment).collect()
    }

    /// Those from a moment on and before another, as many as are looked at at once.
    pub fn between(&self, from: Moment, to: Moment) -> Vec<Moment> {
        let (Ok(set), Some(first), Some(last)) =
            (self.set(), local(from, Tz::UTC), local(to, Tz::UTC))
        else {
            return vec![];
        };
        let found = set.after(first).before(last).all(MOST);
        let all = found.dates.iter().map(moment);
        all.filter(|m| *m >= from && *m < to).collect()
    }

    /// The least time between two of the next few; none: it occurs once at most.
    pub fn least(&self, from: Moment) -> Option<Span> {
        let next = self.after(from, 50);
        next.windows(2).map(|w| w[1].since(w[0])).min()
    }
}

/// The day, hour and so on that a moment lies in, as a clock in the zone says.
pub(crate) fn there(at: Moment, zone: Tz) -> Option<DateTime<Tz>> {
    local(at, zone)
}
