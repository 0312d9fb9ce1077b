//! Hosts that shall be members of their cluster no more.

use super::{Step, assess};
use crate::{
    endpoint::Password,
    ids::HostId,
    permits::Act,
    road::{Ask as Asked, Draft},
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ask {
    Leave(Leave),
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        BTreeSet::from([Act::Hosts, Act::Clusters, Act::Storage, Act::Machines])
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        match self {
            Ask::Leave(ask) => assess::leave(draft, ask),
        }
    }

    fn password(&mut self) -> Option<&mut Password> {
        None
    }
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Leave {
    pub hosts: Vec<HostId>,
    /// Guests may be slowed so that they converge.
    pub slow: bool,
    /// Also those that don't converge, with the longer downtime.
    pub force: bool,
    /// Also over a network that no switch port is known to carry.
    pub wire: bool,
    /// What can't leave is stopped.
    pub stop: bool,
}
