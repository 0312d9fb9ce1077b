//! Making clusters of hosts.

use super::{Step, assess};
use crate::{
    text::Line,
    endpoint::Password,
    permits::Act,
    road::{Ask as Asked, Draft},
    estate::{ClusterKind, Demand, PsabiLevel},
    ids::HostId,
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ask {
    Create(CreateCluster),
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        BTreeSet::from([Act::Clusters])
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        match self {
            Ask::Create(create) => assess::create(draft, create),
        }
    }

    fn password(&mut self) -> Option<&mut Password> {
        None
    }
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct CreateCluster {
    pub name: Line,
    pub hosts: Vec<HostId>,
    /// None: the highest that all hosts have.
    pub level: Option<PsabiLevel>,
    /// The identity of the volume; None: the one that all hosts see.
    pub volume: Option<Line>,
    pub demand: Demand,
    #[serde(default, skip_serializing_if = "is_usual")]
    pub kind: ClusterKind,
    /// Whom they ask for the time: `ip:port`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub time: Vec<String>,
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde asks so")]
fn is_usual(kind: &ClusterKind) -> bool {
    *kind == ClusterKind::default()
}
