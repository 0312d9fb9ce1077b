//! What somebody wishes of files of disks.

use super::{Step, pack, write};
use crate::{
    endpoint::Password,
    ids::{ImageId, MachineId, VolumeId},
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
    Pack(Pack),
    Write(Write),
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        BTreeSet::from([Act::Machines])
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        match self {
            Ask::Pack(ask) => pack::pack(draft, ask),
            Ask::Write(ask) => write::write(draft, ask),
        }
    }

    fn password(&mut self) -> Option<&mut Password> {
        None
    }
}

/// A file is made on a volume, to be fetched from there.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Pack {
    pub machine: MachineId,
    /// None: as it is now.
    pub snapshot: Option<Uuid>,
    /// The bytes of this disk alone; none: the machine with all its disks.
    pub disk: Option<Uuid>,
    pub gzip: bool,
    /// Of the file; empty: as the machine is called.
    pub name: Line,
    /// None: the volume that the machine lies on.
    pub volume: Option<VolumeId>,
}

/// A disk gets what a file holds, and nothing stays of what it held.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Write {
    pub machine: MachineId,
    pub disk: Uuid,
    pub image: Option<ImageId>,
    /// What the person typed to confirm: the machine's name.
    pub typed: Line,
}
