//! Sites, and clusters: hosts that share storage and restart each other's machines.

use super::{Dns, Keeping, PlaceRule, PsabiLevel};
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
#[serde(rename_all = "snake_case")]
pub enum ClusterKind {
    /// Three hosts or more.
    #[default]
    #[serde(alias = "ordinary")]
    OneSite,
    /// And a witness elsewhere.
    #[serde(alias = "edge")]
    TwoHosts,
    /// Halves, with a witness elsewhere: either site must carry everything.
    #[serde(alias = "stretched")]
    TwoSites,
}

impl ClusterKind {
    pub const ALL: [ClusterKind; 3] = [
        ClusterKind::OneSite,
        ClusterKind::TwoHosts,
        ClusterKind::TwoSites,
    ];

    pub fn word(self) -> &'static str {
        match self {
            ClusterKind::OneSite => "one site",
            ClusterKind::TwoHosts => "two hosts",
            ClusterKind::TwoSites => "two sites",
        }
    }
    /// What it is, for whoever chooses.
    pub fn words(self) -> &'static str {
        match self {
            ClusterKind::OneSite => "one site: three hosts or more",
            ClusterKind::TwoHosts => "two hosts, and a witness elsewhere",
            ClusterKind::TwoSites => "two sites, either of which carries all",
        }
    }
    /// Whether a cluster of so many hosts at so many sites is of this kind.
    ///
    /// # Errors
    /// Words: why not.
    pub fn fits(self, hosts: usize, sites: usize) -> Result<(), String> {
        match self {
            ClusterKind::TwoHosts if hosts != 2 => Err(format!(
                "This kind of cluster has two hosts; this one has {hosts}."
            )),
            ClusterKind::TwoSites if sites != 2 => Err(format!(
                "This kind of cluster has hosts at two sites; these are at {sites}."
            )),
            ClusterKind::OneSite | ClusterKind::TwoHosts | ClusterKind::TwoSites => Ok(()),
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
    /// Whom its hosts ask for the time: `ip:port`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub time: Vec<String>,
    /// Where the names of its machines stand; none: they have none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub dns: Option<Box<Dns>>,
    /// False while the run that makes it hasn't finished.
    pub ready: bool,
    pub note: String,
}
