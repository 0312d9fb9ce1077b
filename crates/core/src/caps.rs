//! How much of a line may be taken, by the hours of the week: `40 MiB/s; Mo-Fr 07:00-18:00 10 MiB/s`. In hours of `nothing` what is
//! on its way stands still.

use crate::{
    moment::{Moment, Span},
    recurrence::{there, zone},
    units::{Bytes, Rate, round},
};
use chrono::{Datelike, Timelike};
use serde::{Deserialize, Serialize};
use std::fmt;

/// More parts are of nobody.
const PARTS: usize = 20;
const DAYS: [&str; 7] = ["Mo", "Tu", "We", "Th", "Fr", "Sa", "Su"];
const MINUTES: u16 = 24 * 60;
/// What is not over within so long is never over.
const AHEAD: Span = Span::days(90);
/// Clocks change at one of these (IANA time zone database: all changes of today's zones are at whole half hours of UTC).
const HALF_HOUR: i64 = 30 * 60_000;
const MINUTE: i64 = 60_000;

/// None at all: as much as the line carries.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Cap {
    /// When nothing else is said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub usual: Option<Rate>,
    /// Of those that hold at once the last one counts.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub hours: Vec<Hours>,
    /// A name of the IANA time zone database; empty: UTC.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub zone: String,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Hours {
    /// From Monday on.
    pub days: [bool; 7],
    /// Minutes of the day; `to` is not in it. Where it is not after `from`, it is of the next day.
    pub from: u16,
    pub to: u16,
    /// None: as much as the line carries.
    pub rate: Option<Rate>,
}

impl Cap {
    pub fn is_none(&self) -> bool {
        self.usual.is_none() && self.hours.is_empty()
    }

    /// # Errors
    /// What is wrong with it, in words; hours of nothing are wrong.
    pub fn read(text: &str, zone_name: &str) -> Result<Cap, String> {
        let cap = Cap::read_with_rests(text, zone_name)?;
        match cap.rests() {
            true => Err("Nothing would get there then; say so of each job that is to rest.".into()),
            false => Ok(cap),
        }
    }

    /// The same with hours in which nothing is taken.
    ///
    /// # Errors
    /// What is wrong with it, in words; also that it never lets anything pass.
    pub fn read_with_rests(text: &str, zone_name: &str) -> Result<Cap, String> {
        let cap = Cap::parts(text, zone_name)?;
        match cap.opens(Moment(0)) {
            Some(_) => Ok(cap),
            None => Err("Nothing would ever get there.".into()),
        }
    }

    fn parts(text: &str, zone_name: &str) -> Result<Cap, String> {
        if zone(zone_name).is_none() {
            return Err(format!(
                "There is no time zone “{}”; write it as Europe/Oslo.",
                shown(zone_name)
            ));
        }
        let mut cap = Cap {
            zone: zone_name.to_owned(),
            ..Cap::default()
        };
        let parts = text.split([';', '\n']).map(str::trim);
        let parts: Vec<&str> = parts.filter(|p| !p.is_empty()).collect();
        if parts.len() > PARTS {
            return Err(format!("Up to {PARTS} parts."));
        }
        for (n, part) in parts.into_iter().enumerate() {
            match Hours::read(part)? {
                Some(hours) => cap.hours.push(hours),
                None if n == 0 => cap.usual = rate(part)?,
                None => {
                    return Err(format!(
                        "“{}”: only the first part goes without days.",
                        shown(part)
                    ));
                }
            }
        }
        if cap.is_none() {
            cap.zone.clear();
        }
        Ok(cap)
    }

    /// What may be taken at an instant; none: as much as the line carries.
    pub fn at(&self, now: Moment) -> Option<Rate> {
        let zone = zone(&self.zone).unwrap_or(rrule::Tz::UTC);
        let here = there(now, zone);
        let hours = here.and_then(|at| {
            let day = usize::try_from(at.weekday().num_days_from_monday()).unwrap_or(0);
            let minute = u16::try_from(at.hour() * 60 + at.minute()).unwrap_or(0);
            self.hours.iter().rfind(|h| h.has(day, minute))
        });
        hours.map_or(self.usual, |h| h.rate)
    }

    /// Whether there are hours in which nothing is taken.
    pub fn rests(&self) -> bool {
        let none = |rate: Option<Rate>| rate == Some(Rate(0));
        none(self.usual) || self.hours.iter().any(|h| none(h.rate))
    }

    /// Whether anything may be taken at an instant.
    pub fn is_open(&self, now: Moment) -> bool {
        self.at(now) != Some(Rate(0))
    }

    /// From then on, the first instant at which anything may be taken; none: never.
    pub fn opens(&self, from: Moment) -> Option<Moment> {
        let mut at = from;
        while at.since(from) < AHEAD {
            if self.is_open(at) {
                return Some(at);
            }
            at = self.until(at);
        }
        None
    }

    /// When so many bytes are there that begin at an instant on a line of this rate; none: not within ninety days.
    pub fn ends(&self, bytes: Bytes, line: Rate, from: Moment) -> Option<Moment> {
        let mut left = bytes.as_f64();
        let mut at = from;
        while at.since(from) < AHEAD {
            let rate = self.at(at).map_or(line, |r| r.min(line)).0 as f64;
            let next = if self.is_none() {
                at.plus(AHEAD)
            } else {
                self.until(at)
            };
            let here = rate * next.since(at).0 as f64 / 1000.0;
            if left <= here {
                let millis = if left > 0.0 {
                    round(left / rate * 1000.0)
                } else {
                    0
                };
                return Some(at.plus(Span::millis(millis)));
            }
            left -= here;
            at = next;
        }
        None
    }

    /// The first instant after this one at which something else may hold.
    fn until(&self, at: Moment) -> Moment {
        let zone = zone(&self.zone).unwrap_or(rrule::Tz::UTC);
        let half = (at.0.div_euclid(HALF_HOUR) + 1) * HALF_HOUR;
        let here = there(at, zone).map_or(0, |t| t.hour() * 60 + t.minute());
        let minute = at.0.div_euclid(MINUTE);
        let edges = self.hours.iter().flat_map(|h| [h.from, h.to]);
        let ahead = edges
            .map(|e| i64::from(e) - i64::from(here))
            .filter(|d| *d > 0);
        let edge = ahead.min().map_or(half, |d| (minute + d) * MINUTE);
        Moment(half.min(edge))
    }

    /// The least that there ever is; none: never less than the line carries.
    pub fn least(&self) -> Option<Rate> {
        let all = self.hours.iter().filter_map(|h| h.rate);
        all.chain(self.usual).min()
    }
}

/// A rate, or that there is none.
fn rate(text: &str) -> Result<Option<Rate>, String> {
    let text = text.trim();
    if text.eq_ignore_ascii_case("all") {
        return Ok(None);
    }
    if text.eq_ignore_ascii_case("nothing") {
        return Ok(Some(Rate(0)));
    }
    let wrong = || {
        format!(
            "“{}” is no rate; write it as 40 MiB/s, or as all.",
            shown(text)
        )
    };
    let bytes = Bytes::parse(text.strip_suffix("/s").ok_or_else(wrong)?).map_err(|_| wrong())?;
    Ok(Some(Rate(bytes.0)))
}

fn shown(text: &str) -> String {
    text.chars().take(60).collect()
}

impl Hours {
    fn has(&self, day: usize, minute: u16) -> bool {
        let on = |day: usize| self.days[day % 7];
        match self.from < self.to {
            true => on(day) && (self.from..self.to).contains(&minute),
            false => (on(day) && minute >= self.from) || (on(day + 6) && minute < self.to),
        }
    }

    /// None: it does not begin with days.
    fn read(part: &str) -> Result<Option<Hours>, String> {
        let wrong = || {
            format!(
                "“{}” can't be read; write it as Mo-Fr 07:00-18:00 10 MiB/s.",
                shown(part)
            )
        };
        let mut words = part.splitn(3, char::is_whitespace);
        let Some(days) = words.next().and_then(days) else {
            return Ok(None);
        };
        let next = words.next().ok_or_else(wrong)?;
        let (from, to, said) = match next
            .split_once('-')
            .and_then(|(a, b)| Some((minute(a)?, minute(b)?)))
        {
            Some((from, to)) => (
                from % MINUTES,
                to,
                words.next().ok_or_else(wrong)?.to_owned(),
            ),
            None => {
                let rest = words.next().unwrap_or_default();
                (0, MINUTES, format!("{next} {rest}"))
            }
        };
        Ok(Some(Hours {
            days,
            from,
            to,
            rate: rate(&said)?,
        }))
    }
}

/// `Mo-Fr`, `Sa,Su`
fn days(text: &str) -> Option<[bool; 7]> {
    let of = |word: &str| DAYS.iter().position(|d| d.eq_ignore_ascii_case(word));
    let mut all = [false; 7];
    for part in text.split(',') {
        let (from, to) = match part.split_once('-') {
            Some((a, b)) => (of(a)?, of(b)?),
            None => (of(part)?, of(part)?),
        };
        let mut day = from;
        loop {
            all[day] = true;
            if day == to {
                break;
            }
            day = (day + 1) % 7;
        }
    }
    Some(all)
}

/// Three or more beside each other are a range.
fn days_words(on: [bool; 7]) -> String {
    let mut all = Vec::new();
    let mut day = 0;
    while day < 7 {
        let end = (day..7).take_while(|d| on[*d]).last();
        match end {
            Some(end) if end >= day + 2 => all.push(format!("{}-{}", DAYS[day], DAYS[end])),
            Some(end) => all.extend(DAYS[day..=end].iter().map(|d| (*d).to_owned())),
            None => {}
        }
        day = end.unwrap_or(day) + 1;
    }
    all.join(",")
}

/// `07:30`, and `24:00` as the end of a day.
fn minute(text: &str) -> Option<u16> {
    let (hour, minute) = text.split_once(':')?;
    let (hour, minute): (u16, u16) = (hour.parse().ok()?, minute.parse().ok()?);
    let at = hour.checked_mul(60)?.checked_add(minute)?;
    (minute < 60 && at <= MINUTES).then_some(at)
}

impl fmt::Display for Cap {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let said = |r: Option<Rate>| match r {
            None => "all".to_owned(),
            Some(Rate(0)) => "nothing".to_owned(),
            Some(rate) => rate.to_string(),
        };
        let usual = self.usual.map(|r| said(Some(r)));
        let all = usual.into_iter().chain(self.hours.iter().map(|h| {
            let days = days_words(h.days);
            let clock = |m: u16| format!("{:02}:{:02}", m / 60, m % 60);
            format!("{days} {}-{} {}", clock(h.from), clock(h.to), said(h.rate))
        }));
        f.write_str(&all.collect::<Vec<_>>().join("; "))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// 2026-11-30 is a Monday.
    const MONDAY: i64 = 1_795_996_800_000;

    fn at(cap: &Cap, day: i64, hour: i64) -> Option<u64> {
        let moment = Moment(MONDAY + (day * 24 + hour) * 3_600_000);
        cap.at(moment).map(|r| r.0 >> 20)
    }

    /// If this fails, copies take the line while people work.
    #[test]
    fn what_is_taken_goes_by_day_and_hour() {
        let cap = Cap::read("40 MiB/s; Mo-Fr 07:00-18:00 10 MiB/s; Sa,Su all", "UTC").unwrap();
        assert_eq!(at(&cap, 0, 6), Some(40));
        assert_eq!(at(&cap, 0, 7), Some(10));
        assert_eq!(at(&cap, 4, 17), Some(10));
        assert_eq!(at(&cap, 4, 18), Some(40));
        assert_eq!(at(&cap, 5, 12), None);
        assert_eq!(cap.least(), Some(Rate(10 << 20)));
        assert_eq!(
            cap.to_string(),
            "40\u{a0}MiB/s; Mo-Fr 07:00-18:00 10\u{a0}MiB/s; Sa,Su 00:00-24:00 all"
        );
        let again = Cap::read(&cap.to_string(), "UTC");
        assert_eq!(again, Ok(cap));
    }

    #[test]
    fn a_night_ends_on_the_next_day() {
        let cap = Cap::read("5 MiB/s; Fr 22:00-06:00 all", "Europe/Oslo").unwrap();
        // 22:00 in Oslo is 21:00 in UTC.
        assert_eq!(at(&cap, 4, 20), Some(5));
        assert_eq!(at(&cap, 4, 21), None);
        assert_eq!(at(&cap, 5, 4), None);
        assert_eq!(at(&cap, 5, 5), Some(5));
        assert_eq!(at(&cap, 6, 4), Some(5));
    }

    /// Second by second, the long way.
    fn slowly(cap: &Cap, bytes: u64, line: Rate, from: Moment) -> Moment {
        let (mut left, mut at) = (bytes as f64, from);
        while left > 0.0 {
            let rate = cap.at(at).map_or(line, |r| r.min(line)).0 as f64;
            left -= rate;
            at = at.plus(Span::secs(1));
        }
        at
    }

    /// If this fails, what is foretold of a copy is not what its hours let happen, most of all where a clock changes.
    #[test]
    fn it_is_over_when_its_hours_let_it() {
        let night = "nothing; Mo-Su 22:00-06:00 8 MiB/s; Sa,Su 12:15-13:45 all";
        for zone in ["UTC", "Europe/Oslo", "America/New_York", "Asia/Kathmandu"] {
            let cap = Cap::read_with_rests(night, zone).unwrap();
            // Also over the last Sunday of March 2026 and that of October, when clocks change in Oslo.
            for day in [0, 3, -248, -246, -38, -36] {
                for hours in [0, 11, 21, 23] {
                    let from = Moment(MONDAY + (day * 24 + hours) * 3_600_000 + 7 * 60_000);
                    let bytes = 300 << 30;
                    let ends = cap.ends(Bytes(bytes), Rate(40 << 20), from).unwrap();
                    let slow = slowly(&cap, bytes, Rate(40 << 20), from);
                    let off = (ends.0 - slow.0).abs();
                    assert!(off <= 2_000, "{zone} {day} {hours}: {off} ms");
                    let opens = cap.opens(from).unwrap();
                    assert!(opens >= from && cap.is_open(opens));
                    assert!(opens == from || !cap.is_open(Moment(opens.0 - 1)));
                }
            }
        }
        let free = Cap::default();
        assert_eq!(
            free.ends(Bytes::mib(80), Rate(8 << 20), Moment(5)),
            Some(Moment(10_005))
        );
        assert_eq!(free.ends(Bytes::ZERO, Rate(0), Moment(5)), Some(Moment(5)));
        assert_eq!(free.ends(Bytes(1), Rate(0), Moment(5)), None);
        let never = Cap::read_with_rests("nothing", "UTC").unwrap_err();
        assert!(never.contains("Nothing would ever"), "{never}");
    }

    #[test]
    fn hours_of_nothing_are_read_as_they_are_written() {
        let cap =
            Cap::read_with_rests("nothing; Sa,Su all; Mo 22:00-23:00 1 MiB/s", "UTC").unwrap();
        assert_eq!(
            Cap::read_with_rests(&cap.to_string(), "UTC"),
            Ok(cap.clone())
        );
        assert!(!cap.is_open(Moment(MONDAY)) && cap.is_open(Moment(MONDAY + 22 * 3_600_000)));
    }

    #[test]
    fn what_can_t_be_read_is_told() {
        for (text, words) in [
            ("fast", "no rate"),
            ("0 MiB/s", "Nothing would"),
            ("Mo nothing", "Nothing would"),
            ("1 MiB/s; 2 MiB/s", "only the first"),
            ("Mo 07:00-18:00", "can't be read"),
            ("Mo 7-18 1 MiB/s", "no rate"),
        ] {
            let said = Cap::read(text, "UTC").unwrap_err();
            assert!(said.contains(words), "{text}: {said}");
        }
        assert!(
            Cap::read("", "Atlantis")
                .unwrap_err()
                .contains("no time zone")
        );
        assert!(Cap::read("", "UTC").unwrap().is_none());
    }
}
