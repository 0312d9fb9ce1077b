//! What an array does for what lies on it, as it says itself: its classes of service (Swordfish, SNIA).

use crate::moment::{Moment, Span};
use serde::{Deserialize, Serialize};

/// A class of service.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Service {
    /// As the array calls it.
    pub class: String,
    /// What an operation takes on average, in microseconds.
    pub latency_us: Option<u32>,
    /// Drives that may die at once without a loss.
    pub spare: Option<u8>,
    /// Snapshots that the array takes by itself.
    pub snapshots: Option<Snaps>,
    /// Copies that it keeps elsewhere.
    pub remote: Option<Remote>,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Snaps {
    pub every: Span,
    /// None: it doesn't say for how long.
    pub keep: Option<Span>,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Remote {
    /// Where, as the array says it.
    pub at: String,
    /// So old it may become.
    pub every: Span,
}

/// What an array does for one volume of ours.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Served {
    pub service: Service,
    /// Volumes of one consistency group are copied at one moment.
    pub group: Option<String>,
    /// Since when it has said so.
    pub since: Moment,
    /// What it did before that.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub before: Option<Box<Service>>,
}

impl Served {
    /// In one sentence's part.
    pub fn words(&self) -> String {
        let group = self.group.as_ref().map(|g| format!(", with {g}"));
        format!(
            "{}: {}{}",
            self.service.class,
            self.service.words(),
            group.unwrap_or_default()
        )
    }
    /// How it took snapshots before somebody changed that; none: it was not changed, or nothing is known of before.
    pub fn snapshots_before(&self) -> Option<&Snaps> {
        let was = self.before.as_ref()?.snapshots.as_ref();
        was.filter(|_| was != self.service.snapshots.as_ref())
    }
    /// The same, whenever it was first seen.
    pub fn says_as(&self, other: &Served) -> bool {
        self.service == other.service && self.group == other.group
    }
}

impl Service {
    /// Line by line: what, and how.
    pub fn lines(&self) -> Vec<(&'static str, String)> {
        let latency = self.latency_us.map(|us| format!("{us} µs on average"));
        let spare = self.spare.map(|n| match n {
            0 => "none".to_owned(),
            1 => "1 drive".to_owned(),
            n => format!("{n} drives"),
        });
        vec![
            ("Class", self.class.clone()),
            ("An operation", latency.unwrap_or_else(|| "not said".into())),
            ("Drives may die", spare.unwrap_or_else(|| "not said".into())),
            (
                "Snapshots there",
                self.snapshots
                    .as_ref()
                    .map_or_else(|| "none".into(), Snaps::words),
            ),
            (
                "Copied elsewhere",
                self.remote
                    .as_ref()
                    .map_or_else(|| "no".into(), Remote::words),
            ),
        ]
    }
    /// In one sentence's part, without its class.
    pub fn words(&self) -> String {
        let snapshots = self.snapshots.as_ref().map_or_else(
            || "no snapshots".into(),
            |s| format!("snapshots {}", s.words()),
        );
        let remote = self.remote.as_ref().map_or_else(
            || "no copy elsewhere".into(),
            |r| format!("a copy at {}", r.words()),
        );
        let latency = self
            .latency_us
            .map(|us| format!(", {us} µs for an operation"));
        format!("{snapshots}, {remote}{}", latency.unwrap_or_default())
    }
}

impl Snaps {
    pub fn words(&self) -> String {
        match self.keep {
            Some(keep) => format!("every {}, kept {keep}", self.every),
            None => format!("every {}", self.every),
        }
    }
}

impl Remote {
    fn words(&self) -> String {
        format!("{}, at most {} old", self.at, self.every)
    }
}
