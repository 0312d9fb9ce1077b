//! Sites, and clusters: hosts that share storage and restart each other's machines.

use super::{PlaceRule, PsabiLevel};
use crate::ids::{ClusterId, HostId, SiteId};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Site {
    pub id: SiteId,
    pub name: String,
}

/// How many host failures the cluster is meant to survive.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Demand {
    pub failures: u32,
    /// Blocks runs that would break it, instead of only saying so.
    pub enforced: bool,
}

/// What the cluster is built for.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum ClusterKind {
    #[default]
    Ordinary,
    /// Two hosts and a witness.
    Edge,
    /// Over two sites, with a witness elsewhere: either site must carry everything.
    Stretched,
}

impl ClusterKind {
    pub const ALL: [ClusterKind; 3] = [
        ClusterKind::Ordinary,
        ClusterKind::Edge,
        ClusterKind::Stretched,
    ];

    pub fn word(self) -> &'static str {
        match self {
            ClusterKind::Ordinary => "ordinary",
            ClusterKind::Edge => "edge",
            ClusterKind::Stretched => "stretched",
        }
    }
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Cluster {
    pub id: ClusterId,
    pub name: String,
    pub site: SiteId,
    pub hosts: BTreeSet<HostId>,
    pub cpu_maker: String,
    /// What machines are started with.
    pub cpu_level: PsabiLevel,
    pub demand: Demand,
    #[serde(default)]
    pub kind: ClusterKind,
    #[serde(default)]
    pub rules: Vec<PlaceRule>,
    /// False while the run that makes it hasn't finished.
    pub ready: bool,
    pub note: String,
}
