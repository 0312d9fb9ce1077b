//! Where a cluster's keepers shall run.

use super::{Step, place};
use crate::{
    endpoint::Password,
    ids::{ClusterId, HostId},
    permits::Act,
    road::{Ask as Asked, Draft},
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ask {
    Place(Place),
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        BTreeSet::from([Act::Clusters])
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        match self {
            Ask::Place(ask) => place::place(draft, ask),
        }
    }

    fn password(&mut self) -> Option<&mut Password> {
        None
    }
}

/// On exactly these hosts; on none, and the manager alone decides.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Place {
    pub cluster: ClusterId,
    pub hosts: Vec<HostId>,
}
