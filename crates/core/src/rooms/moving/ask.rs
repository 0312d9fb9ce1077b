//! Moving machines to other hosts while they run, and their disks to other volumes.

use super::{Step, assess};
use crate::{
    endpoint::Password,
    permits::Act,
    road::{Ask as Asked, Draft},
    ids::{HostId, MachineId, VolumeId},
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ask {
    Move(Move),
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        BTreeSet::from([Act::Machines])
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        match self {
            Ask::Move(ask) => assess::relocate(draft, ask),
        }
    }

    fn password(&mut self) -> Option<&mut Password> {
        None
    }
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Move {
    pub machines: Vec<MachineId>,
    /// None: the best for each, with reasons.
    pub to: Option<HostId>,
    /// Their disks go to another volume too, or alone.
    #[serde(default)]
    pub disks: Option<DisksTo>,
    /// The guest may be slowed so that it converges.
    pub slow: bool,
    /// Also if it doesn't converge, with the longer downtime.
    pub force: bool,
    /// Also over a network that no switch port is known to carry.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub wire: bool,
}

/// Where disks go.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct DisksTo {
    /// None: not chosen yet.
    pub volume: Option<VolumeId>,
    /// The machines themselves stay on their hosts.
    pub stay: bool,
}
