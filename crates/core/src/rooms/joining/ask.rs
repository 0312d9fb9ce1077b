//! Hosts that shall be members of a cluster.

use super::{Step, assess};
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
    Join {
        cluster: Option<ClusterId>,
        hosts: Vec<HostId>,
    },
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        BTreeSet::from([Act::Clusters])
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        match self {
            Ask::Join { cluster, hosts } => assess::join(draft, *cluster, hosts),
        }
    }

    fn password(&mut self) -> Option<&mut Password> {
        None
    }
}
