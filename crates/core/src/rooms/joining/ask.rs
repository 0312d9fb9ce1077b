//! Hosts that shall be members of a cluster.

use super::{Step, assess};
use crate::{
    endpoint::Password,
    ids::{ClusterId, HostId},
    permits::Act,
    road::{Ask as Asked, Draft},
    rooms::hosts::ClaimHosts,
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
    /// Hosts that are nobody's are claimed and join in one run.
    Welcome {
        claim: ClaimHosts,
        cluster: ClusterId,
    },
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        match self {
            Ask::Join { .. } => BTreeSet::from([Act::Clusters]),
            Ask::Welcome { .. } => BTreeSet::from([Act::Hosts, Act::Clusters]),
        }
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        match self {
            Ask::Join { cluster, hosts } => assess::join(draft, *cluster, hosts),
            Ask::Welcome { claim, cluster } => assess::welcome(draft, claim, *cluster),
        }
    }

    fn password(&mut self) -> Option<&mut Password> {
        match self {
            Ask::Join { .. } => None,
            Ask::Welcome { claim, .. } => Some(&mut claim.password),
        }
    }
}
