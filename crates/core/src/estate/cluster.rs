//! Sites, and clusters: hosts that share storage and restart each other's machines.

use super::{Keeping, PlaceRule, PsabiLevel};
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
    /// Any one of these too, in the order of [`Host::DOMAINS`](super::Host::DOMAINS).
    #[serde(default, skip_serializing_if = "none")]
    pub domains: [bool; 3],
    /// Blocks runs that would break it, instead of only saying so.
    pub enforced: bool,
}

fn yes() -> bool {
    true
}
#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde asks so")]
fn is_so(yes: &bool) -> bool {
    *yes
}

fn none(domains: &[bool; 3]) -> bool {
    *domains == [false; 3]
}

impl Demand {
    /// The kinds of fault domains of which any one may fail.
    pub fn kinds(self) -> impl Iterator<Item = &'static str> {
        let all = super::Host::DOMAINS.into_iter().zip(self.domains);
        all.filter(|(_, asked)| *asked).map(|(kind, _)| kind)
    }
    /// Whether it asks for anything.
    pub fn asks(self) -> bool {
        self.failures > 0 || self.kinds().next().is_some()
    }
    /// `1 host failure and any one rack`
    pub fn words(self) -> String {
        let hosts = match self.failures {
            0 => None,
            1 => Some("1 host failure".to_owned()),
            n => Some(format!("{n} host failures")),
        };
        let kinds = self.kinds().map(|kind| format!("any one {kind}"));
        let all: Vec<String> = hosts.into_iter().chain(kinds).collect();
        match all.as_slice() {
            [] => "nothing".into(),
            all => all.join(" and "),
        }
    }
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
    /// Machines of a failed host are started elsewhere without anybody's word.
    #[serde(default = "yes", skip_serializing_if = "is_so")]
    pub recovers: bool,
    /// Who decides its recovery beside the manager; none: the manager alone does.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub keeping: Option<Keeping>,
    /// False while the run that makes it hasn't finished.
    pub ready: bool,
    pub note: String,
}
