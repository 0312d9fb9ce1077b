//! What a cluster shall be that is built from nothing: the build sheet.

use super::{Step, assess};
use crate::{
    endpoint::Password,
    estate::{ClusterKind, Demand, PsabiLevel},
    ids::ClusterId,
    permits::Act,
    road::{Ask as Asked, Draft},
    rooms::{installing::Install, networks::CreateNetwork, storage::ConnectVolume},
    text::Line,
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ask {
    Build(Box<Build>),
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        let Ask::Build(build) = self;
        let mut acts = BTreeSet::from([Act::Hosts, Act::Clusters]);
        if build.volume.is_some() || !build.networks.is_empty() {
            acts.insert(Act::Storage);
        }
        acts
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        match self {
            Ask::Build(build) => assess::build(draft, build),
        }
    }

    fn password(&mut self) -> Option<&mut Password> {
        match self {
            Ask::Build(build) => Some(&mut build.install.password),
        }
    }
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Build {
    /// The cluster that they join, with what its hosts have; none: they make one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub into: Option<ClusterId>,
    pub name: Line,
    pub kind: ClusterKind,
    pub install: Install,
    /// Of the cluster that is built, whatever else they name.
    pub networks: Vec<CreateNetwork>,
    /// None: the highest that all hosts have.
    pub level: Option<PsabiLevel>,
    pub demand: Demand,
    /// On all of its hosts, likewise.
    pub volume: Option<ConnectVolume>,
    /// Keepers are placed on three of its hosts.
    pub keepers: bool,
    /// Each new host is switched off and on once by its controller, at the end.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub fencing: bool,
    /// Names of its hosts and machines stand where those of this cluster do.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub names: Option<ClusterId>,
}
