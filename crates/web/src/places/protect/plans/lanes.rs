//! Stages as lanes on a time axis: when each begins and is over, each machine as a line in it, and where a person is waited for. Of a
//! plan that was carried out what it took stands beneath what was foretold.

use askama::Template;
use std::fmt::Write;
use zastrugi_core::{
    crossing::Crossing,
    estate::{Passage, Passed},
    moment::Span,
};

/// Units of the picture: the width of all the time, and where names end.
const WIDTH: u64 = 900;
const LEFT: u64 = 170;
/// A line for each machine, up to so many; more are in the table alone.
const LINES: usize = 12;
const LINE: u64 = 5;
const HEAD: u64 = 12;

struct Lane {
    name: String,
    y: u64,
    /// The whole stage, its machines, what lies between it and the next.
    bar: String,
    lines: String,
    between: String,
    /// Where a person is waited for.
    asks: String,
    said: String,
}

#[derive(Template)]
#[template(path = "places/protect/plans/lanes.html")]
pub(super) struct Lanes {
    lanes: Vec<Lane>,
    ticks: Vec<(u64, String)>,
    width: u64,
    height: u64,
    foretold: bool,
    measured: bool,
    sentence: String,
}

/// Where times stand in a picture of so long.
struct Axis(Span);

impl Axis {
    fn x(&self, at: Span) -> u64 {
        LEFT + at.0.saturating_mul(WIDTH) / self.0.0.max(1)
    }
    fn bar(&self, path: &mut String, (from, to): (Span, Span), (y, height): (u64, u64)) {
        let x = self.x(from);
        let width = self.x(to).saturating_sub(x).max(2);
        // Writing to text does not fail.
        let _ = write!(path, "M{x} {y}h{width}v{height}h-{width}z");
    }
    /// A pennant on a pole.
    fn pennant(&self, path: &mut String, at: Span, (y, height): (u64, u64)) {
        let x = self.x(at);
        let _ = write!(path, "M{x} {y}v{height}M{x} {y}l9 4l-9 4z");
    }
    /// A tick about every sixth of it, at a round time.
    fn ticks(&self) -> Vec<(u64, String)> {
        const ROUND: [u64; 13] = [
            5, 10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 14_400,
        ];
        let secs = self.0.0 / 1000;
        let each = ROUND.into_iter().find(|r| secs / r <= 7).unwrap_or(86_400);
        let all = (0..=secs / each).map(|n| Span::secs(n * each));
        all.map(|at| {
            (
                self.x(at),
                match (at.0 / 1000 / 60, at.0 / 1000 % 60) {
                    (0, 0) => "0".into(),
                    (mins, secs) if mins > 0 && secs > 0 => format!("{mins}:{secs:02} min"),
                    _ => at.to_string(),
                },
            )
        })
        .collect()
    }
}

impl Lanes {
    /// As it would go now.
    pub(super) fn ahead(crossing: &Crossing) -> Lanes {
        let axis = Axis(crossing.time());
        let mut y = 30;
        let mut lanes = Vec::new();
        for stage in &crossing.stages {
            let shown = stage.machines.len().min(LINES);
            let height = HEAD + shown as u64 * LINE;
            let mut lane = Lane::at(&stage.name, y);
            let after: u64 = stage.then.iter().map(|(_, time, _)| time.0).sum();
            let up = Span(stage.to.0.saturating_sub(after));
            axis.bar(&mut lane.bar, (stage.from, up), (y, HEAD - 4));
            for (n, machine) in stage.machines.iter().take(LINES).enumerate() {
                let line = y + HEAD + n as u64 * LINE;
                let booted = Span((stage.from.0 + machine.boots.0).min(up.0));
                axis.bar(&mut lane.lines, (stage.from, booted), (line, 3));
            }
            let mut at = up;
            for (_, time, asks) in &stage.then {
                if *asks {
                    axis.pennant(&mut lane.asks, at, (y - 4, height + 2));
                }
                let next = at.plus(*time);
                if time.0 > 0 {
                    axis.bar(&mut lane.between, (at, next), (y, HEAD - 4));
                }
                at = next;
            }
            let then: Vec<&str> = stage.then.iter().map(|(w, _, _)| w.as_str()).collect();
            lane.said = said(stage.machines.len(), (stage.from, up), &then);
            lanes.push(lane);
            y += height + 14;
        }
        Lanes {
            ticks: axis.ticks(),
            lanes,
            width: LEFT + WIDTH + 60,
            height: y,
            foretold: false,
            measured: false,
            sentence: format!(
                "All of it is up {} after somebody begins, beside what people take.",
                crossing.time()
            ),
        }
    }

    /// As it went; what people took is left out, that both can be compared.
    pub(super) fn went(passage: &Passage) -> Lanes {
        let measured: Vec<Option<Span>> = passage.stages.iter().map(Passed::took).collect();
        let took: u64 = measured.iter().flatten().map(|s| s.0).sum();
        let axis = Axis(passage.foretold().max(Span(took)));
        let (mut y, mut told, mut real) = (30, Span(0), Span(0));
        let mut lanes = Vec::new();
        for (stage, took) in passage.stages.iter().zip(measured) {
            let mut lane = Lane::at(&stage.name, y);
            let next = told.plus(stage.foretold);
            axis.bar(&mut lane.between, (told, next), (y, 7));
            told = next;
            if let Some(took) = took {
                let next = real.plus(took);
                axis.bar(&mut lane.bar, (real, next), (y + 9, 7));
                real = next;
            }
            let asked = stage.then.iter().filter(|b| b.asks);
            let asked = asked.filter(|b| !b.holds || b.began.is_some()).count();
            (0..asked).for_each(|_| axis.pennant(&mut lane.asks, real, (y - 2, 20)));
            lane.said = match took {
                Some(took) => format!("foretold {}, took {took}", stage.foretold),
                None => format!("foretold {}, not over", stage.foretold),
            };
            lanes.push(lane);
            y += 36;
        }
        Lanes {
            ticks: axis.ticks(),
            lanes,
            width: LEFT + WIDTH + 60,
            height: y,
            foretold: true,
            measured: took > 0,
            sentence: match passage.took() {
                Some(took) => format!(
                    "Foretold {}, took {took}; what people took to answer is in neither.",
                    passage.foretold()
                ),
                None => format!("Foretold {}; not all of it is over.", passage.foretold()),
            },
        }
    }
}

impl Lane {
    fn at(name: &str, y: u64) -> Lane {
        Lane {
            name: name.to_owned(),
            y: y + 9,
            bar: String::new(),
            lines: String::new(),
            between: String::new(),
            asks: String::new(),
            said: String::new(),
        }
    }
}

fn said(machines: usize, (from, up): (Span, Span), then: &[&str]) -> String {
    let who = match machines {
        1 => "one machine".to_owned(),
        n => format!("{n} machines"),
    };
    let then = match then {
        [] => String::new(),
        all => format!("; then {}", all.join("; ")),
    };
    format!("{who}, from {from} to {up}{then}")
}
