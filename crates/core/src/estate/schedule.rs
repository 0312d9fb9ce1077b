//! Snapshots that are taken again and again, of every machine with a label.

use super::{Estate, Machine};
use crate::{
    ids::ScheduleId,
    moment::{Moment, Span},
};
use serde::{Deserialize, Serialize};
use std::sync::Arc;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Schedule {
    pub id: ScheduleId,
    /// Their snapshots begin with it.
    pub name: String,
    /// `key=value`, or `key`.
    pub label: String,
    pub every: Span,
    /// Each is deleted by itself after so long.
    pub keeps: Span,
    /// The first, or where it begins anew.
    pub begins: Moment,
    /// When it was last begun.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub last: Option<Moment>,
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub paused: bool,
}

impl Schedule {
    /// When the next is due. What was missed is not made up for: one is taken, and then it goes on from there.
    pub fn next(&self) -> Moment {
        let Some(last) = self.last.filter(|last| *last >= self.begins) else {
            return self.begins;
        };
        let every = self.every.0.max(1);
        let times = last.since(self.begins).0 / every + 1;
        self.begins.plus(Span(times.saturating_mul(every)))
    }
    /// The minute of the day (UTC) at which it begins.
    pub fn minute(&self) -> i64 {
        self.begins.0.div_euclid(60_000).rem_euclid(1440)
    }
    pub fn is_due(&self, now: Moment) -> bool {
        !self.paused && self.next() <= now
    }
    /// So many are there at once.
    pub fn at_once(&self) -> u64 {
        self.keeps.0.div_ceil(self.every.0.max(1))
    }
    /// What the snapshot of this moment is called: `nightly 2026-11-29 22:00`.
    pub fn named(&self, at: Moment) -> String {
        format!("{} {}", self.name, at.stamp())
    }
}

impl Estate {
    /// The machines that it is about now, by number.
    pub fn scheduled(&self, schedule: &Schedule) -> Vec<&Arc<Machine>> {
        let mut all: Vec<_> = self
            .machines_labelled(&schedule.label)
            .filter(|m| m.deleted.is_none() && m.proves.is_none() && m.replica.is_none())
            .collect();
        all.sort_by_key(|m| m.id);
        all
    }
}
