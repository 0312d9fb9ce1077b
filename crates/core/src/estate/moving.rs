//! What became of a live migration: kept with the machine, to be set beside what was foretold.

use crate::{
    ids::HostId,
    migration::Course,
    moment::{Moment, Span},
    units::Bytes,
};
use serde::{Deserialize, Serialize};

/// One round as it really was.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct RoundSeen {
    pub bytes: Bytes,
    pub took: Span,
}

/// What the hosts measured.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Measured {
    pub rounds: Vec<RoundSeen>,
    pub total: Bytes,
    pub took: Span,
    /// How long the guest stood still, fixed part included.
    pub stood_still: Span,
    /// By how many hundredths it was slowed at the end.
    pub slowed: u32,
}

/// The last move of a machine.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Moved {
    pub at: Moment,
    pub from: HostId,
    pub to: HostId,
    pub measured: Measured,
    pub foretold: Option<Course>,
}

impl Moved {
    /// Rounds that are kept of each course; a machine's fact stays small.
    pub const MOST_ROUNDS: usize = 30;

    /// The measured downtime less the foretold one, in milliseconds.
    pub fn downtime_error(&self) -> Option<i64> {
        let foretold = self.foretold.as_ref()?.stands_still();
        let ms = |s: Span| i64::try_from(s.0).unwrap_or(i64::MAX);
        Some(ms(self.measured.stood_still) - ms(foretold))
    }
}
