//! What somebody wishes of a disk of another machine.

use super::{Step, assess};
use crate::{
    endpoint::Password,
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
    Copy(CopyDisk),
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct CopyDisk {
    pub machine: MachineId,
    /// The disk that is written over; none: it gets one more.
    pub onto: Option<Uuid>,
    /// Whose disk it is; none: not chosen yet.
    pub from: Option<MachineId>,
    /// None: as it is now.
    pub snapshot: Option<Uuid>,
    /// Its place among that machine's disks.
    pub disk: usize,
    /// What the person typed to confirm that a disk is written over: the machine's name.
    pub typed: Line,
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        BTreeSet::from([Act::Machines])
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        match self {
            Ask::Copy(ask) => assess::copy(draft, ask),
        }
    }

    fn password(&mut self) -> Option<&mut Password> {
        None
    }
}
