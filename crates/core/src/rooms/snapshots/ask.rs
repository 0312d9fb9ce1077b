//! What somebody wishes of snapshots.

use super::{Step, back, forget, keep, take};
use crate::{
    endpoint::Password,
    ids::MachineId,
    moment::Span,
    permits::Act,
    road::{Ask as Asked, Draft},
    text::Line,
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;
use uuid::Uuid;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ask {
    Take(Take),
    Back(Back),
    Forget(Forget),
    Keep(Keep),
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        BTreeSet::from([Act::Machines])
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        match self {
            Ask::Take(ask) => take::take(draft, ask),
            Ask::Back(ask) => back::back(draft, ask),
            Ask::Forget(ask) => forget::forget(draft, ask),
            Ask::Keep(ask) => keep::keep(draft, ask),
        }
    }

    fn password(&mut self) -> Option<&mut Password> {
        None
    }
}

/// Whether file systems stand still for it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Quiet {
    /// As after a power cut.
    No,
    /// Where the guest can't, it is taken all the same.
    #[default]
    IfPossible,
    /// Where the guest can't, none is taken.
    Only,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Take {
    pub machines: Vec<MachineId>,
    pub name: Line,
    pub note: Line,
    pub quiet: Quiet,
    pub memory: bool,
    /// All of them stand still at once and have one of the same instant, or none has one.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub together: bool,
    /// It is deleted by itself after so long; none: somebody does.
    pub ends: Option<Span>,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Back {
    pub machine: MachineId,
    pub to: Option<Uuid>,
    /// What is now is kept as a snapshot first.
    pub keep: bool,
}

/// Which snapshots of the chosen machines.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Which {
    These(Vec<Uuid>),
    /// Each of these, with all that lie on it.
    Branch(Vec<Uuid>),
    OlderThan(Span),
    All,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Forget {
    pub machines: Vec<MachineId>,
    pub which: Which,
}

/// Until when a snapshot is kept, and what is noted of it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Keep {
    pub machine: MachineId,
    pub snapshot: Option<Uuid>,
    pub note: Line,
    /// From now on; none: until somebody deletes it.
    pub ends: Option<Span>,
}
