//! What somebody wishes of a disk that several machines have.

use super::{Step, end, make, nodes};
use crate::{
    endpoint::Password,
    estate::Provisioning,
    ids::{MachineId, VolumeId},
    permits::Act,
    road::{Ask as Asked, Draft},
    text::Line,
    units::Bytes,
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;
use uuid::Uuid;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ask {
    Make(Make),
    /// These machines have it from now on, and no others; each as the disk asks for.
    Nodes { disk: Uuid, nodes: Vec<MachineId> },
    /// Nobody has it any more; it stays on its volume, unattached.
    End { disk: Uuid },
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Make {
    pub name: Line,
    /// None: not chosen yet.
    pub volume: Option<VolumeId>,
    pub source: Source,
    pub nodes: Vec<MachineId>,
}

/// What is on it at first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Source {
    Empty { size: Bytes, provisioning: Provisioning },
    /// A disk that no machine has.
    Unattached { disk: Uuid },
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        BTreeSet::from([Act::Machines])
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        match self {
            Ask::Make(ask) => make::make(draft, ask),
            Ask::Nodes { disk, nodes } => nodes::change(draft, *disk, nodes),
            Ask::End { disk } => end::end(draft, *disk),
        }
    }

    fn password(&mut self) -> Option<&mut Password> {
        None
    }
}
