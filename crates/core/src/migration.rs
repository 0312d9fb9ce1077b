//! What a live migration will be like: rounds, bytes, time, downtime, computed before it begins (rules, section 5).
//!
//! The model is pre-copy (Clark et al., *Live Migration of Virtual Machines*, NSDI 2005): all pages ever touched are
//! sent while the guest runs, then those that it wrote meanwhile, and so on, until the rest is sent while it stands
//! still. With `V` the bytes of a round, `B` the bandwidth, `D` the dirty rate and `W` the writable working set, the next
//! round has `min(W, D · V / B)` bytes.

use crate::{
    moment::Span,
    units::{Bytes, Rate, round},
};
use serde::{Deserialize, Serialize};

/// What a migration's course follows from.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Case {
    /// Pages ever touched, caches too: what the first round sends.
    pub memory: Bytes,
    pub bandwidth: Rate,
    /// How fast the guest makes pages dirty.
    pub dirty: Rate,
    /// No round after the first has more than this.
    pub working_set: Bytes,
    /// The rest is sent while the guest stands still once that takes no longer than this.
    pub target: Span,
    pub max_rounds: u32,
    /// The guest may be slowed by so many hundredths at a time; 0 for never.
    pub slow_step: u32,
}

/// The guest is never slowed by more, in hundredths.
pub const SLOWEST: u32 = 70;
/// Rounds before a migration gives up.
pub const MAX_ROUNDS: u32 = 30;
/// The whole downtime that is aimed at.
pub const TARGET: Span = Span::secs(1);
/// What stands still in any case: devices, and telling the network.
pub const FIXED: Span = Span::millis(300);
/// No single stream is faster, in bytes a second.
const STREAM: u64 = 1_000_000_000;

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Ends {
    /// It converges: the rest fits the target.
    Downtime,
    /// Too many rounds.
    Rounds,
    /// The guest writes faster than the line carries.
    Stalled,
}

#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Round {
    pub bytes: Bytes,
    pub seconds: f64,
    /// By how many hundredths the guest was slowed in it.
    pub slowed: u32,
}

/// How a migration goes.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Course {
    pub rounds: Vec<Round>,
    pub ends: Ends,
    /// Sent while the guest stands still.
    pub rest: Bytes,
    /// Everything that is sent.
    pub total: Bytes,
    /// From the first byte to the last.
    pub seconds: f64,
    /// How long the rest takes; the fixed part is not in it.
    pub downtime: f64,
    pub slowed: u32,
}

impl Course {
    pub fn converges(&self) -> bool {
        self.ends == Ends::Downtime
    }
    /// As people feel it: with what stands still in any case.
    pub fn stands_still(&self) -> Span {
        span(self.downtime).plus(FIXED)
    }
    pub fn time(&self) -> Span {
        span(self.seconds).plus(FIXED)
    }
}

fn span(seconds: f64) -> Span {
    Span::millis(round(seconds * 1000.0))
}

/// The model's figures as they are: bytes, seconds, shares.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Bare {
    pub memory: f64,
    /// Bytes a second.
    pub bandwidth: f64,
    /// Bytes a second.
    pub dirty: f64,
    /// Bytes.
    pub working_set: f64,
    /// Seconds.
    pub target: f64,
    pub max_rounds: usize,
    /// The guest may be slowed by so much of its speed at a time; 0 for never.
    pub slow_step: f64,
}

/// The course of the bare model; nothing fixed is added.
#[derive(Debug, Clone, PartialEq)]
pub struct BareCourse {
    /// Of each round: bytes, seconds, and how much the guest was slowed in it.
    pub rounds: Vec<(f64, f64, f64)>,
    pub ends: Ends,
    pub rest: f64,
    pub slowed: f64,
}

/// Follows the rounds to their end. A bandwidth of nothing never ends: *stalled* in its first round, for ever.
pub fn bare(case: &Bare) -> BareCourse {
    let line = case.bandwidth;
    let slowest = f64::from(SLOWEST) / 100.0;
    let mut sent = case.memory;
    let mut slowed = 0.0;
    let mut rounds = Vec::new();
    let (ends, rest) = loop {
        let seconds = sent / line;
        rounds.push((sent, seconds, slowed));
        let next = (case.dirty * (1.0 - slowed) * seconds).min(case.working_set);
        if next / line <= case.target {
            break (Ends::Downtime, next);
        }
        if rounds.len() >= case.max_rounds {
            break (Ends::Rounds, next);
        }
        // Not a number where there is no line at all.
        if next >= sent || !next.is_finite() {
            if case.slow_step <= 0.0 || slowed >= slowest || !next.is_finite() {
                break (Ends::Stalled, next);
            }
            slowed = (slowed + case.slow_step).min(slowest);
        }
        sent = next;
    };
    BareCourse {
        rounds,
        ends,
        rest,
        slowed,
    }
}

/// The course of a migration in quantities.
pub fn course(case: &Case) -> Course {
    let line = case.bandwidth.0 as f64;
    let found = bare(&Bare {
        memory: case.memory.as_f64(),
        bandwidth: line,
        dirty: case.dirty.0 as f64,
        working_set: case.working_set.as_f64(),
        target: case.target.0 as f64 / 1000.0,
        max_rounds: case.max_rounds as usize,
        slow_step: f64::from(case.slow_step) / 100.0,
    });
    let hundredths = |share: f64| u32::try_from(round(share * 100.0)).unwrap_or(SLOWEST);
    let rounds: Vec<Round> = found
        .rounds
        .iter()
        .map(|(bytes, seconds, slowed)| Round {
            bytes: Bytes(round(*bytes)),
            seconds: *seconds,
            slowed: hundredths(*slowed),
        })
        .collect();
    let before: f64 = rounds.iter().map(|r| r.seconds).sum();
    let downtime = found.rest / line;
    Course {
        total: rounds.iter().map(|r| r.bytes).sum::<Bytes>() + Bytes(round(found.rest)),
        seconds: before + downtime,
        downtime,
        rest: Bytes(round(found.rest)),
        slowed: hundredths(found.slowed),
        rounds,
        ends: found.ends,
    }
}

/// How many migrations a host with such an uplink takes part in at once.
pub fn at_once(mbit: u64) -> usize {
    match mbit {
        0..10_000 => 1,
        10_000..25_000 => 2,
        _ => 4,
    }
}

/// What one of `streams` migrations gets between two hosts: nine tenths of the narrower uplink, shared, and at most
/// 1 GB/s.
pub fn bandwidth(source_mbit: u64, destination_mbit: u64, streams: usize) -> Rate {
    let narrow = source_mbit.min(destination_mbit).saturating_mul(1_000_000) / 8;
    let shared = narrow / u64::try_from(streams.max(1)).unwrap_or(u64::MAX);
    Rate((shared.saturating_mul(9) / 10).min(STREAM))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn case(memory: u64, line: u64, dirty: u64, set: u64) -> Case {
        Case {
            memory: Bytes(memory),
            bandwidth: Rate(line),
            dirty: Rate(dirty),
            working_set: Bytes(set),
            target: Span::millis(100),
            max_rounds: 30,
            slow_step: 0,
        }
    }

    #[test]
    fn a_course_by_hand() {
        // 1000 in 10 s; 500 written meanwhile, 5 s; 250; 125; 62.5; 31.25; 15.625; then 7.8 fit a tenth of a second.
        let c = course(&case(1000, 100, 50, 10_000));
        let sent: Vec<u64> = c.rounds.iter().map(|r| r.bytes.0).collect();
        assert_eq!(sent, [1000, 500, 250, 125, 63, 31, 16]);
        assert_eq!(c.ends, Ends::Downtime);
        assert_eq!(c.rest, Bytes(8));
        assert!((c.downtime - 0.078_125).abs() < 1e-9, "{}", c.downtime);
        assert!((c.seconds - 19.921_875).abs() < 1e-9, "{}", c.seconds);
    }

    #[test]
    fn the_working_set_bounds_every_round_after_the_first() {
        let c = course(&case(1000, 100, 90, 50));
        assert_eq!(c.rounds[1].bytes, Bytes(50));
        let c = course(&case(1000, 100, 90, 5));
        assert_eq!(c.rounds.len(), 1, "what is left fits at once");
        assert_eq!(c.rest, Bytes(5));
    }

    #[test]
    fn who_writes_faster_than_the_line_stalls_unless_it_may_be_slowed() {
        let fast = case(1000, 100, 120, 10_000);
        let c = course(&fast);
        assert_eq!((c.ends, c.rounds.len()), (Ends::Stalled, 1));
        assert_eq!(c.rest, Bytes(1200), "the longer downtime can be said");
        let slow = Case {
            target: Span::secs(8),
            slow_step: 10,
            ..fast.clone()
        };
        let c = course(&slow);
        assert_eq!(c.ends, Ends::Downtime);
        assert_eq!(c.slowed, 20, "120 less a fifth is 96 of 100");
        let hopeless = Case {
            dirty: Rate(1000),
            ..slow
        };
        let c = course(&hopeless);
        assert_eq!((c.ends, c.slowed), (Ends::Stalled, SLOWEST));
    }

    #[test]
    fn thirty_rounds_are_enough() {
        let c = course(&Case {
            target: Span(0),
            ..case(1 << 40, 1000, 999, 1 << 40)
        });
        assert_eq!((c.ends, c.rounds.len()), (Ends::Rounds, 30));
    }

    #[test]
    fn without_a_line_it_never_gets_there() {
        let c = course(&case(1000, 0, 50, 1000));
        assert_eq!(c.ends, Ends::Stalled);
        assert!(!c.converges());
    }

    #[test]
    fn bandwidth_is_shared_and_capped() {
        assert_eq!(bandwidth(1000, 25_000, 1), Rate(112_500_000));
        assert_eq!(bandwidth(10_000, 10_000, 2), Rate(562_500_000));
        assert_eq!(bandwidth(100_000, 100_000, 1), Rate(1_000_000_000));
        assert_eq!([1000, 10_000, 25_000, 100_000].map(at_once), [1, 2, 4, 4]);
    }
}
