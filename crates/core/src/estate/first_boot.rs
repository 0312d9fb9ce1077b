//! What guests are told at their first boot: a named series of versions, and what each guest says came of it.

use crate::{
    ids::{FirstBootId, SecretRef},
    moment::Moment,
};
use serde::{Deserialize, Serialize};
use std::net::IpAddr;

/// A named series of versions.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct FirstBoot {
    pub id: FirstBootId,
    pub name: String,
    /// Oldest first; never empty.
    pub versions: Vec<Edition>,
}

/// One version; it is never changed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Edition {
    pub number: u32,
    /// With `{name}`, `{cluster}`, `{site}` and `{label:…}` for what the machine has.
    pub host_name: String,
    /// None: the guest's own are left alone.
    pub user: Option<User>,
    pub dns: Vec<IpAddr>,
    /// Domains that are tried behind a name without one.
    pub search: Vec<String>,
    /// By its name in the time zone database; empty: as the guest has it.
    pub zone: String,
    /// Run once, in this order.
    pub commands: Vec<String>,
    pub made: Moment,
}

/// Who can sign in to the guest.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct User {
    pub name: String,
    /// Public keys, a line each (RFC 4253, 6.6, as OpenSSH writes them).
    pub keys: Vec<String>,
    /// Where the hash of the password is kept; none: it has none.
    pub password: Option<SecretRef>,
}

/// Of a machine: what its guest was told, and what it says came of it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Booted {
    pub document: FirstBootId,
    /// What it was called, for when it is gone.
    pub name: String,
    pub version: u32,
    /// None: the guest has not said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub applied: Option<Applied>,
}

#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Applied {
    /// What was done, in the guest's words.
    pub done: Vec<String>,
    pub failed: Vec<String>,
}

impl FirstBoot {
    pub fn newest(&self) -> Option<&Edition> {
        self.versions.last()
    }
    pub fn version(&self, number: u32) -> Option<&Edition> {
        self.versions.iter().find(|v| v.number == number)
    }
}

impl Booted {
    /// The document and its version.
    pub fn words(&self) -> String {
        format!("{} {}", self.name, self.version)
    }
}
