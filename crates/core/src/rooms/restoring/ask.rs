//! What somebody wishes of a recovery point.

use super::{Step, back, disks};
use crate::{
    endpoint::Password,
    estate::PointAt,
    ids::MachineId,
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
    Back(PutBack),
    Disks(BringDisks),
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        BTreeSet::from([Act::Machines])
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        match self {
            Ask::Back(ask) => back::put_back(draft, ask),
            Ask::Disks(ask) => disks::bring(draft, ask),
        }
    }

    fn password(&mut self) -> Option<&mut Password> {
        None
    }
}

/// The disks of a machine hold again what they held.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct PutBack {
    pub machine: MachineId,
    pub point: Option<PointAt>,
    /// What it holds now stays in a snapshot.
    pub keep: bool,
    /// What the person typed to confirm that it doesn't: the machine's name.
    pub typed: Line,
}

/// A machine gets disks of a point, beside those that it has.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct BringDisks {
    pub machine: Option<MachineId>,
    pub point: Option<PointAt>,
    /// By their keys in the point.
    pub disks: Vec<Uuid>,
}
