//! Pledges: what machines are promised, clause by clause, and to whom.

use super::{Estate, Machine};
use crate::{
    expression::Expression,
    ids::{PledgeId, SiteId},
    moment::Span,
    text::Line,
};
use serde::{Deserialize, Serialize};
use std::{collections::BTreeSet, sync::Arc};
use uuid::Uuid;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Pledge {
    pub id: PledgeId,
    pub name: String,
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub note: String,
    /// Whoever has these labels has it; none: only whoever was given it by hand.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<Expression>,
    pub clauses: Clauses,
}

/// What is promised; what is left out is not.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Clauses {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub storage: Option<Offers>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub point: Option<Point>,
    /// A recovery point stays for so long.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub kept: Option<Span>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub remote: Option<Away>,
    /// A copy of it came up, no longer ago.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub proved: Option<Span>,
    /// It is back within so long, as it was measured.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub back: Option<Span>,
    /// It restarts in this tier, or an earlier one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tier: Option<u8>,
}

/// What its storage must be.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Offers {
    /// What people stated of volumes.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub qualities: BTreeSet<Line>,
    /// What an operation takes on average, in microseconds, at most.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub latency_us: Option<u32>,
    /// Drives, or copies, that may be lost at once, at least.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub spare: Option<u8>,
}

/// The newest state that it can be brought back to.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Point {
    /// It is never older.
    pub every: Span,
    #[serde(default)]
    pub taker: Taker,
    /// Its file systems stood still when it was taken.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub quiet: bool,
}

/// Whose recovery points count.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Taker {
    #[default]
    Any,
    /// Snapshots of the machine.
    Snapshot,
    /// What the array does by itself.
    Array,
}

/// A copy elsewhere.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Away {
    /// None: anywhere but where it is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub site: Option<SiteId>,
    /// It is never older.
    pub age: Span,
}

/// What a machine has by hand.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Pledged {
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub by_hand: BTreeSet<PledgeId>,
    /// Disks that nothing is promised of, by their keys.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub except: BTreeSet<Uuid>,
}

impl Pledge {
    pub fn is_given(&self, machine: &Machine) -> bool {
        let by_hand = machine
            .pledged
            .as_ref()
            .is_some_and(|p| p.by_hand.contains(&self.id));
        by_hand || self.to.as_ref().is_some_and(|to| to.fits(&machine.labels))
    }
}

impl Clauses {
    pub fn is_empty(&self) -> bool {
        *self == Clauses::default()
    }
}

impl Taker {
    pub const ALL: [Taker; 3] = [Taker::Any, Taker::Snapshot, Taker::Array];
    /// By which it is stored and chosen.
    pub fn key(self) -> &'static str {
        match self {
            Taker::Any => "any",
            Taker::Snapshot => "snapshot",
            Taker::Array => "array",
        }
    }
    pub fn words(self) -> &'static str {
        match self {
            Taker::Any => "by whatever means",
            Taker::Snapshot => "by a snapshot of the machine",
            Taker::Array => "by the array",
        }
    }
}

impl Pledged {
    pub fn is_nothing(&self) -> bool {
        *self == Pledged::default()
    }
}

impl Machine {
    /// Changes what it has by hand.
    pub fn pledge(&mut self, change: impl FnOnce(&mut Pledged)) {
        let mut pledged = self.pledged.take().unwrap_or_default();
        change(&mut pledged);
        self.pledged = (!pledged.is_nothing()).then_some(pledged);
    }
    /// Nothing is promised of this disk.
    pub fn excepts(&self, disk: Uuid) -> bool {
        self.pledged
            .as_ref()
            .is_some_and(|p| p.except.contains(&disk))
    }
}

impl Estate {
    /// Who was given it by hand.
    pub fn given_by_hand(&self, pledge: PledgeId) -> impl Iterator<Item = &Arc<Machine>> {
        let by_hand = move |m: &&Arc<Machine>| {
            m.pledged
                .as_ref()
                .is_some_and(|p| p.by_hand.contains(&pledge))
        };
        self.machines.values().filter(by_hand)
    }
    /// The pledges that a machine has, by number.
    pub fn pledges_of<'a>(&'a self, machine: &'a Machine) -> impl Iterator<Item = &'a Arc<Pledge>> {
        let own = machine.proves.is_none() && machine.replica.is_none();
        let live = machine.deleted.is_none() && own;
        self.pledges
            .values()
            .filter(move |p| live && p.is_given(machine))
    }
}
