//! The hosts' own disks, and what a volume of them is made of.

use crate::{ids::HostId, moment::Span, units::Bytes};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// A disk in a host, beside the one that it starts from.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct LocalDisk {
    pub name: String,
    pub size: Bytes,
    pub state: DiskState,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum DiskState {
    /// Empty, and nobody uses it.
    Free,
    /// Lent to the volume of this identity.
    Lent(String),
    /// Something is on it.
    Holds(String),
    Dead,
}

/// What is beneath a volume of the hosts' own disks.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Pooled {
    /// Of everything, each in another fault domain.
    pub copies: u8,
    /// How long a host that is away is waited for until what it holds is copied anew.
    pub wait: Span,
    /// What each host lends.
    pub members: BTreeMap<HostId, Share>,
    #[serde(default)]
    pub health: PoolHealth,
}

#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Share {
    pub domain: String,
    pub raw: Bytes,
    /// Of all copies, what lies here.
    #[serde(default)]
    pub held: Bytes,
    /// Its disks can't be read.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub away: bool,
    /// What it holds is being copied to the others.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub leaving: bool,
}

/// How whole it is, as a host last said.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct PoolHealth {
    /// Grows with whatever changes: what was said earlier is older.
    pub seq: u64,
    /// What has fewer copies that can be read than there should be.
    pub lacking: Bytes,
    /// What has none that can be read.
    pub lost: Bytes,
    /// What is being copied anew.
    pub moving: Bytes,
}

impl Pooled {
    /// The waits that may be chosen.
    pub const WAIT: Span = Span::mins(10);

    pub fn new(copies: u8, wait: Span) -> Self {
        Pooled {
            copies,
            wait,
            members: BTreeMap::new(),
            health: PoolHealth::default(),
        }
    }
    /// Whether everything has all its copies and nothing is copied anew.
    pub fn is_whole(&self) -> bool {
        self.health.lacking == Bytes::ZERO
            && self.health.moving == Bytes::ZERO
            && !self.members.values().any(|m| m.leaving)
    }
    /// Where it is not whole, in words; none where it is.
    pub fn trouble(&self) -> Option<String> {
        let PoolHealth {
            lacking,
            lost,
            moving,
            ..
        } = self.health;
        if lost > Bytes::ZERO {
            return Some(format!(
                "{lost} can't be read: no copy is on a host that answers"
            ));
        }
        if moving > Bytes::ZERO {
            return Some(format!(
                "{lacking} lack a copy, {moving} are being copied anew"
            ));
        }
        (lacking > Bytes::ZERO).then(|| format!("{lacking} lack a copy"))
    }
    /// The same apart from what only counts.
    pub fn says_as(&self, other: &Pooled) -> bool {
        let unnumbered = |p: &Pooled| PoolHealth { seq: 0, ..p.health };
        self.copies == other.copies
            && self.wait == other.wait
            && self.members == other.members
            && unnumbered(self) == unnumbered(other)
    }
}
