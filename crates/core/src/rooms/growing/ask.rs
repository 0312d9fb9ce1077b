//! What somebody wishes a machine to have, wherever there is room for it.

use super::{Step, assess};
use crate::{
    endpoint::Password,
    estate::Memory,
    ids::{HostId, MachineId},
    permits::Act,
    road::{Ask as Asked, Draft},
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ask {
    Grow(Grow),
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Grow {
    pub machine: MachineId,
    /// None: as it is.
    pub memory: Option<Memory>,
    pub vcpus: Option<u32>,
    /// None: the best of those with room, with reasons.
    pub to: Option<HostId>,
    /// As of a move.
    pub slow: bool,
    pub force: bool,
    pub wire: bool,
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        BTreeSet::from([Act::Machines])
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        match self {
            Ask::Grow(ask) => assess::grow(draft, ask),
        }
    }

    fn password(&mut self) -> Option<&mut Password> {
        None
    }
}
