//! A failure on a time axis: how long nobody knew, how long it took to prove, and each machine from its start until it is up;
//! a dashed line where the last was foretold to be.

use crate::frame::Px;
use askama::Template;
use zastrugi_core::{
    estate::{Failure, Restarted},
    moment::{Moment, Span},
};

const LEFT: f64 = 170.0;
const WIDTH: f64 = 640.0;
const ROW: f64 = 20.0;
/// Machines that are drawn; the table beneath has all.
const MOST: usize = 40;

/// From one moment to another, in a lane.
pub(super) struct Bar {
    pub(super) from: Px,
    pub(super) wide: Px,
    pub(super) class: &'static str,
    pub(super) words: String,
}

struct Line {
    name: String,
    text: Px,
    top: Px,
    bars: Vec<Bar>,
}

pub(super) struct Tick {
    pub(super) x: Px,
    pub(super) words: String,
}

#[derive(Template)]
#[template(path = "places/logbook/axis.html")]
pub(super) struct Axis {
    words: String,
    width: Px,
    tall: Px,
    base: Px,
    below: Px,
    lines: Vec<Line>,
    ticks: Vec<Tick>,
    foretold: Option<Px>,
}

/// From the last that was heard, in milliseconds, to pixels.
pub(super) struct Scale {
    pub(super) since: Moment,
    /// Where time begins.
    pub(super) left: f64,
    /// How wide a second is.
    pub(super) second: f64,
}

impl Scale {
    pub(super) fn x(&self, at: Moment) -> f64 {
        self.left + at.since(self.since).0 as f64 / 1000.0 * self.second
    }
    pub(super) fn bar(
        &self,
        (from, to): (Moment, Moment),
        class: &'static str,
        words: String,
    ) -> Bar {
        let x = self.x(from);
        Bar {
            from: Px(x),
            wide: Px((self.x(to) - x).max(1.5)),
            class,
            words,
        }
    }
}

impl Axis {
    pub(super) fn of(failure: &Failure, now: Moment) -> Axis {
        let last = failure
            .machines
            .iter()
            .filter_map(|m| m.up.or(m.started))
            .max();
        let told = failure.lines.iter().map(|l| l.at).max();
        let known = [last, told, failure.ended].into_iter().flatten().max();
        let end = if failure.is_open() {
            now
        } else {
            known.unwrap_or(now)
        };
        let whole = end
            .since(failure.since)
            .max(failure.foretold.unwrap_or_default())
            .max(Span::secs(10));
        let scale = Scale {
            since: failure.since,
            left: LEFT,
            second: WIDTH / (whole.0 as f64 / 1000.0 * 1.04),
        };
        let of_host = match failure.ailed {
            true => ailing(failure, &scale, end),
            false => host(failure, &scale, end),
        };
        let mut lines = vec![(failure.name.clone(), of_host)];
        lines.extend(
            failure
                .machines
                .iter()
                .take(MOST)
                .map(|m| (m.name.clone(), bars(m, &scale, end))),
        );
        let base = ROW * lines.len() as f64 + 4.0;
        let lines = lines.into_iter().enumerate().map(|(n, (name, bars))| Line {
            name,
            text: Px(ROW * n as f64 + 14.0),
            top: Px(ROW * n as f64 + 4.0),
            bars,
        });
        Axis {
            words: format!("{}: {} from the last that was heard", failure.name, whole),
            width: Px(LEFT + WIDTH + 10.0),
            tall: Px(base + 20.0),
            base: Px(base),
            below: Px(base + 15.0),
            lines: lines.collect(),
            ticks: ticks(
                whole,
                &scale,
                if failure.ailed { "began" } else { "last heard" },
            ),
            foretold: failure
                .foretold
                .filter(|f| f.0 > 0)
                .map(|f| Px(scale.x(failure.since.plus(f)))),
        }
    }
}

/// Machines lack something until the verdict, then they leave.
fn ailing(failure: &Failure, scale: &Scale, end: Moment) -> Vec<Bar> {
    let verdict = failure.lines.iter().map(|l| l.at).min().unwrap_or(end);
    let lasted = verdict.since(failure.since);
    let lacks = format!("machines on it lack something, for {lasted}");
    let leave = format!("they leave it, within {}", end.since(verdict));
    vec![
        scale.bar((failure.since, verdict), "unheard", lacks),
        scale.bar((verdict, end), "boots", leave),
    ]
}

/// Unheard until the verdict, then being proved.
fn host(failure: &Failure, scale: &Scale, end: Moment) -> Vec<Bar> {
    let verdict = failure
        .lines
        .iter()
        .find(|l| l.sort == zastrugi_core::estate::Sort::Verdict);
    let verdict = verdict.map(|l| l.at);
    let proved = failure.fenced;
    let unheard = (failure.since, verdict.or(proved).unwrap_or(end));
    let mut bars = vec![scale.bar(
        unheard,
        "unheard",
        format!("not heard for {}", unheard.1.since(unheard.0)),
    )];
    if let Some(verdict) = verdict {
        let until = proved.unwrap_or(end);
        let words = match proved {
            Some(_) => format!("proved within {}", until.since(verdict)),
            None => format!("not proved for {}", until.since(verdict)),
        };
        bars.push(scale.bar((verdict, until), "fencing", words));
    }
    bars
}

fn bars(machine: &Restarted, scale: &Scale, end: Moment) -> Vec<Bar> {
    let Some(started) = machine.started else {
        return vec![];
    };
    let until = machine.up.unwrap_or(end);
    let took = until.since(started);
    let (class, words) = match machine.up {
        Some(_) => ("boots", format!("up {took} after its start")),
        None => ("open", format!("starting for {took}")),
    };
    vec![scale.bar((started, until), class, words)]
}

/// Every so many seconds that there are at most eight.
pub(super) fn ticks(whole: Span, scale: &Scale, zero: &str) -> Vec<Tick> {
    let seconds = whole.0 / 1000;
    let steps = [
        1, 2, 5, 10, 20, 30, 60, 120, 300, 600, 1800, 3600, 7200, 21_600, 86_400,
    ];
    let step = steps
        .into_iter()
        .find(|s| seconds / s <= 8)
        .unwrap_or(seconds.max(1));
    let all = (0..=seconds / step).map(|n| n * step);
    all.map(|s| Tick {
        x: Px(scale.x(scale.since.plus(Span::secs(s)))),
        words: if s == 0 { zero.to_owned() } else { after(s) },
    })
    .collect()
}

/// `30 s`, `1:30 min`, `2.0 h`
pub(super) fn after(seconds: u64) -> String {
    match seconds {
        0..60 => format!("{seconds} s"),
        60..3600 if seconds.is_multiple_of(60) => format!("{} min", seconds / 60),
        60..3600 => format!("{}:{:02} min", seconds / 60, seconds % 60),
        _ => format!("{:.1} h", seconds as f64 / 3600.0),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_axis_has_a_few_marks_however_long_it_is() {
        for seconds in [3, 40, 90, 600, 5000, 100_000, 3_000_000] {
            let scale = Scale {
                since: Moment(0),
                left: LEFT,
                second: 1.0,
            };
            let n = ticks(Span::secs(seconds), &scale, "began").len();
            assert!((2..=9).contains(&n), "{n} marks for {seconds} s");
        }
    }
}
