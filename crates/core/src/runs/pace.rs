//! How long each kind of step took lately, beside how long it was thought to take: the next plan rests on that.

use crate::moment::Span;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, VecDeque};

/// From a machine's power-on until its guest answers: the kind under which it is measured, and what it is thought to take.
pub const GUEST_ANSWERS: (&str, Span) = ("guest answers", Span::secs(15));

/// Calls to one device at once.
pub const LANES: usize = 4;

/// Fewer measurements than this say nothing.
const LEAST: usize = 5;
/// What lies further back than this many is forgotten.
const MOST: usize = 32;

/// Measured times of each kind of step, as thousandths of what it was thought to take.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Pace(BTreeMap<String, VecDeque<u64>>);

impl Pace {
    /// What was measured of one kind alone.
    #[must_use]
    pub fn only(&self, kind: &str) -> Pace {
        let found = self.0.get_key_value(kind);
        Pace(
            found
                .map(|(k, v)| (k.clone(), v.clone()))
                .into_iter()
                .collect(),
        )
    }

    /// A step of this kind, thought to take `usual`, took `took`.
    pub fn note(&mut self, kind: &str, usual: Span, took: Span) {
        let Some(share) = took.0.saturating_mul(1000).checked_div(usual.0) else {
            return;
        };
        let all = self.0.entry(kind.to_owned()).or_default();
        all.push_back(share);
        if all.len() > MOST {
            all.pop_front();
        }
    }

    /// What a step of this kind takes, if it was measured often enough to say.
    pub fn measured(&self, kind: &str, usual: Span) -> Option<Span> {
        let known = self.0.get(kind).is_some_and(|all| all.len() >= LEAST);
        known.then(|| self.expect(kind, usual))
    }

    /// How many of those that were measured were shorter than `took`, and how many those are: only where so long is rare, one in
    /// twenty or less.
    pub fn longer_than(&self, kind: &str, usual: Span, took: Span) -> Option<(usize, usize)> {
        let all = self.0.get(kind).filter(|all| all.len() >= LEAST)?;
        let share = took.0.saturating_mul(1000).checked_div(usual.0)?;
        let shorter = all.iter().filter(|s| **s < share).count();
        (shorter * 20 >= all.len() * 19).then_some((shorter, all.len()))
    }

    /// What a step of this kind will probably take: what it is thought to, by the median of what such steps took of that.
    pub fn expect(&self, kind: &str, usual: Span) -> Span {
        let Some(all) = self.0.get(kind).filter(|all| all.len() >= LEAST) else {
            return usual;
        };
        let mut sorted: Vec<u64> = all.iter().copied().collect();
        sorted.sort_unstable();
        let share = sorted.get(sorted.len() / 2).copied().unwrap_or(1000);
        Span(usual.0.saturating_mul(share) / 1000)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_few_say_nothing_and_one_wild_one_does_not_move_it() {
        let mut pace = Pace::default();
        let usual = Span::secs(15);
        for _ in 0..LEAST - 1 {
            pace.note("guest answers", usual, Span::secs(30));
        }
        assert_eq!(
            pace.expect("guest answers", usual),
            usual,
            "four are too few"
        );
        pace.note("guest answers", usual, Span::mins(60));
        assert_eq!(pace.expect("guest answers", usual), Span::secs(30));
        assert_eq!(pace.expect("power on", usual), usual, "each kind by itself");
    }

    #[test]
    fn that_something_takes_long_is_said_only_where_that_is_rare() {
        let mut pace = Pace::default();
        let usual = Span::secs(100);
        let longer = |pace: &Pace, secs| pace.longer_than("install", usual, Span::secs(secs));
        (1..LEAST as u64).for_each(|n| pace.note("install", usual, Span::secs(n)));
        assert_eq!(longer(&pace, 1000), None, "four are too few");
        (LEAST as u64..=20).for_each(|n| pace.note("install", usual, Span::secs(n)));
        assert_eq!(longer(&pace, 19), None, "two of twenty took as long");
        assert_eq!(longer(&pace, 20), Some((19, 20)));
        assert_eq!(longer(&pace, 21), Some((20, 20)));
    }

    #[test]
    fn what_grows_with_size_is_learnt_as_a_share() {
        let mut pace = Pace::default();
        for size in 1..=LEAST as u64 {
            pace.note(
                "receive the file",
                Span::secs(size * 10),
                Span::secs(size * 5),
            );
        }
        assert_eq!(
            pace.expect("receive the file", Span::secs(600)),
            Span::secs(300)
        );
        pace.note("receive the file", Span(0), Span::secs(1));
        assert_eq!(pace.expect("receive the file", Span(0)), Span(0));
    }

    proptest! {
        /// What is expected lies between the shortest and the longest that is still remembered.
        #[test]
        fn it_stays_within_what_was_measured(took in prop::collection::vec(1u64..100_000, LEAST..80)) {
            let mut pace = Pace::default();
            for ms in &took {
                pace.note("power on", Span(1000), Span(*ms));
            }
            let lately = &took[took.len().saturating_sub(MOST)..];
            let said = pace.expect("power on", Span(1000)).0;
            let (least, most) = (lately.iter().min(), lately.iter().max());
            prop_assert!(least <= Some(&said) && Some(&said) <= most);
        }
    }
}
