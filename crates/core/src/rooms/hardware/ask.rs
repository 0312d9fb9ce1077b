//! What somebody wishes of disks and cards.

use super::{Step, change, spare};
use crate::{
    endpoint::Password,
    estate::Provisioning,
    ids::{MachineId, NetworkId, VolumeId},
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
    Change(Change),
    Spare(Spare),
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        BTreeSet::from([match self {
            Ask::Spare(Spare {
                act: SpareAct::Purge { .. },
                ..
            }) => Act::Purge,
            Ask::Change(_) | Ask::Spare(_) => Act::Machines,
        }])
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        match self {
            Ask::Change(ask) => change::change(draft, ask),
            Ask::Spare(ask) => spare::spare(draft, ask),
        }
    }

    fn password(&mut self) -> Option<&mut Password> {
        None
    }
}

/// What becomes of the disks and cards of one machine.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Change {
    pub machine: MachineId,
    pub disks: Vec<DiskWish>,
    pub cards: Vec<CardWish>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum DiskWish {
    Add {
        size: Bytes,
        provisioning: Provisioning,
    },
    /// It stays on its volume, and no machine has it.
    Detach { disk: Uuid },
    /// The same, and after some days it may be gone.
    Delete { disk: Uuid },
    /// One that no machine has.
    Attach { disk: Uuid },
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum CardWish {
    Add {
        network: Option<NetworkId>,
    },
    To {
        mac: String,
        network: Option<NetworkId>,
    },
    Out {
        mac: String,
    },
}

/// What becomes of disks that no machine has.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Spare {
    pub volume: VolumeId,
    pub disks: Vec<Uuid>,
    pub act: SpareAct,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum SpareAct {
    Delete,
    Restore,
    /// `typed` is what the person typed to confirm: the name of the machine that had it, or how many they are.
    Purge { typed: Line },
}
