//! A live migration as a picture: rounds as ridges on a time axis, as wide as they take and as high as what they send;
//! at the end the time for which the guest stands still. What was foretold above, what was below.

use askama::Template;
use zastrugi_core::{
    estate::Measured,
    migration::{Course, FIXED},
    units::{Bytes, round},
};

struct Ridge {
    path: String,
    words: String,
}

struct Line {
    what: &'static str,
    words: String,
    ridges: Vec<Ridge>,
    /// Where the guest stands still: (x, width).
    still: (f64, f64),
    still_words: String,
}

#[derive(Template)]
#[template(path = "frame/rounds.html")]
pub(crate) struct Rounds {
    title: String,
    lines: Vec<Line>,
}

const WIDTH: f64 = 420.0;
const HEIGHT: f64 = 34.0;

/// One course before it is drawn: (bytes, seconds) of each round, then how long the guest stands still, in seconds.
struct Shape {
    what: &'static str,
    rounds: Vec<(Bytes, f64)>,
    still: f64,
    total: Bytes,
    slowed: u32,
}

impl Shape {
    fn foretold(course: &Course) -> Self {
        Shape {
            what: "foretold",
            rounds: course.rounds.iter().map(|r| (r.bytes, r.seconds)).collect(),
            still: course.downtime + FIXED.0 as f64 / 1000.0,
            total: course.total,
            slowed: course.slowed,
        }
    }
    fn measured(measured: &Measured) -> Self {
        let seconds = |ms: u64| ms as f64 / 1000.0;
        let rounds = measured.rounds.iter();
        Shape {
            what: "measured",
            rounds: rounds.map(|r| (r.bytes, seconds(r.took.0))).collect(),
            still: seconds(measured.stood_still.0),
            total: measured.total,
            slowed: measured.slowed,
        }
    }
    fn seconds(&self) -> f64 {
        self.rounds.iter().map(|r| r.1).sum::<f64>() + self.still
    }
    fn draw(&self, second: f64, byte: f64) -> Line {
        let mut x = 0.0;
        let mut ridges = Vec::new();
        for (n, (bytes, seconds)) in self.rounds.iter().enumerate() {
            let (width, high) = (seconds * second, (bytes.as_f64() * byte).max(1.0));
            let top = x + width * 0.93;
            ridges.push(Ridge {
                path: format!(
                    "M{x:.1} {HEIGHT} L{top:.1} {:.1} L{:.1} {HEIGHT} Z",
                    HEIGHT - high,
                    x + width
                ),
                words: format!("round {}: {bytes} in {seconds:.1} s", n + 1),
            });
            x += width;
        }
        let slowed = match self.slowed {
            0 => String::new(),
            n => format!(", slowed by up to {n} %"),
        };
        let count = match self.rounds.len() {
            1 => "1 round".to_owned(),
            n => format!("{n} rounds"),
        };
        Line {
            what: self.what,
            words: format!("{count}, {} in {:.1} s{slowed}", self.total, self.seconds()),
            still: (x, (self.still * second).max(2.0)),
            still_words: format!("stands still for {}", still_words(self.still)),
            ridges,
        }
    }
}

/// As exactly as it matters: `0.46 s`, `3.2 s`, `22 s`.
fn still_words(seconds: f64) -> String {
    let hundredths = round(seconds * 100.0);
    match hundredths {
        0..100 => format!("0.{hundredths:02} s"),
        100..1000 => format!("{}.{} s", hundredths / 100, hundredths / 10 % 10),
        _ => format!("{} s", round(seconds)),
    }
}

impl Rounds {
    pub(crate) fn new(title: &str, foretold: Option<&Course>, measured: Option<&Measured>) -> Self {
        let shapes: Vec<Shape> = foretold
            .map(Shape::foretold)
            .into_iter()
            .chain(measured.map(Shape::measured))
            .collect();
        let longest = shapes.iter().map(Shape::seconds).fold(0.001, f64::max);
        let most = shapes.iter().flat_map(|s| &s.rounds).map(|r| r.0).max();
        let most = most.unwrap_or(Bytes(1)).as_f64().max(1.0);
        Rounds {
            title: title.to_owned(),
            lines: shapes
                .iter()
                .map(|s| s.draw(WIDTH / longest, (HEIGHT - 2.0) / most))
                .collect(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use zastrugi_core::{
        estate::RoundSeen,
        migration::{Ends, Round},
        moment::Span,
    };

    #[test]
    fn both_courses_have_one_scale() {
        let course = Course {
            rounds: vec![Round {
                bytes: Bytes::gib(2),
                seconds: 4.0,
                slowed: 0,
            }],
            ends: Ends::Downtime,
            rest: Bytes::ZERO,
            total: Bytes::gib(2),
            seconds: 4.0,
            downtime: 0.7,
            slowed: 0,
        };
        let measured = Measured {
            rounds: vec![RoundSeen {
                bytes: Bytes::gib(1),
                took: Span::secs(9),
            }],
            total: Bytes::gib(1),
            took: Span::secs(10),
            stood_still: Span::secs(1),
            slowed: 20,
        };
        let drawn = Rounds::new("db", Some(&course), Some(&measured));
        let [foretold, was] = drawn.lines.as_slice() else {
            panic!()
        };
        assert!((foretold.still.0 - 168.0).abs() < 0.1, "4 s of 10");
        assert!(
            (was.still.0 + was.still.1 - WIDTH).abs() < 0.1,
            "the longer fills it"
        );
        assert!(was.words.contains("slowed by up to 20 %"));
        assert_eq!(foretold.still_words, "stands still for 1.0 s");
    }
}
