//! How a job copies, beyond where to and when: in which hours, what it leaves out, who comes first.

use super::{Machine, StoredPoint};
use crate::{
    caps::Cap,
    moment::{Moment, Span},
};
use serde::{Deserialize, Serialize};
use std::{fmt, str::FromStr};

/// What nobody says anything of is as it was before there was anything to say.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Habits {
    /// What it takes of the line, and in which hours it rests.
    #[serde(default, skip_serializing_if = "Cap::is_none")]
    pub cap: Cap,
    /// Disks that somebody took out of what is promised are not copied.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub leaves_out: bool,
    #[serde(default)]
    pub order: Order,
    /// Machines with the same value of this label share each point: all of them stand still at once, or none is copied.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub together: Option<String>,
    /// So often a copy reads everything, whatever is known of what changed; none: only the first one does.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub whole: Option<Often>,
    /// The state that was copied stays beside the machine for so long; none: it is released at once.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub local: Option<Span>,
    /// Its points go by themselves after so long, whatever stays else.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub wanted: Option<Span>,
}

/// Who is copied first.
#[derive(
    Debug, Clone, Copy, Default, PartialEq, Eq, Hash, Serialize, Deserialize, strum::VariantArray,
)]
#[serde(rename_all = "snake_case")]
pub enum Order {
    /// As they were made.
    #[default]
    Number,
    /// Whose last copy is the oldest; those without one before all.
    Longest,
    /// Who restarts first when a host fails.
    Tier,
}

/// Every so many copies, or after so long.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Often {
    Copies(u16),
    Days(u16),
}

/// When everything was last read, as a point knows it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Whole {
    pub at: Moment,
    /// Copies of what changed since.
    pub since: u16,
}

impl Whole {
    /// Of a copy that is made now, after another in the same place.
    pub fn of(taken: Moment, everything: bool, before: Option<&StoredPoint>) -> Option<Whole> {
        match before {
            Some(before) if !everything => before.whole.map(|w| Whole {
                since: w.since.saturating_add(1),
                ..w
            }),
            Some(_) | None => Some(Whole {
                at: taken,
                since: 0,
            }),
        }
    }
}

impl Order {
    pub fn key(self) -> &'static str {
        match self {
            Order::Number => "number",
            Order::Longest => "longest",
            Order::Tier => "tier",
        }
    }
    pub fn words(self) -> &'static str {
        match self {
            Order::Number => "as they were made",
            Order::Longest => "whose last copy is the oldest",
            Order::Tier => "who restarts first when a host fails",
        }
    }
    /// The lowest comes first.
    pub(super) fn rank(self, machine: &Machine, newest: Option<Moment>) -> (i64, u64) {
        let first = match self {
            Order::Number => 0,
            Order::Longest => newest.map_or(i64::MIN, |at| at.0),
            Order::Tier => i64::from(machine.tier),
        };
        (first, machine.id.0)
    }
}

impl Often {
    /// Whether the next copy reads everything, after this one.
    pub fn is_due(self, last: &StoredPoint, now: Moment) -> bool {
        let Some(whole) = last.whole else { return true };
        match self {
            Often::Copies(n) => whole.since.saturating_add(1) >= n,
            Often::Days(days) => whole.at.plus(Span::days(days.into())) <= now,
        }
    }
}

impl fmt::Display for Often {
    /// `10 copies`, `30 days`
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Often::Copies(n) => write!(f, "{n} copies"),
            Often::Days(n) => write!(f, "{n} days"),
        }
    }
}

impl FromStr for Often {
    type Err = String;

    fn from_str(text: &str) -> Result<Often, String> {
        let wrong = || {
            let text: String = text.chars().take(60).collect();
            format!("“{text}” is not understood; write it as 10 copies, or 30 days.")
        };
        let (count, of) = text
            .trim()
            .split_once(char::is_whitespace)
            .ok_or_else(wrong)?;
        let count: u16 = count.parse().ok().filter(|n| *n > 0).ok_or_else(wrong)?;
        match of.trim().to_lowercase().as_str() {
            "copies" | "copy" => Ok(Often::Copies(count)),
            "days" | "day" => Ok(Often::Days(count)),
            _ => Err(wrong()),
        }
    }
}
