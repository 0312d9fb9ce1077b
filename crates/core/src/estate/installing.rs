//! A host on which nothing is installed yet: what it is given to become.

use crate::ids::SecretRef;
use ipnet::IpNet;
use serde::{Deserialize, Serialize};
use std::net::IpAddr;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Installing {
    /// The file that it is installed from.
    pub image: String,
    /// Its own address, with the prefix length of the subnet.
    pub net: IpNet,
    pub gateway: Option<IpAddr>,
    /// None: untagged.
    pub vlan: Option<u16>,
    /// Whom it asks for the time: `ip:port`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub time: Vec<String>,
    /// What its disks hold may be erased.
    pub overwrite: bool,
    /// SHA-256 of the word under which it fetches what it starts from, lower-case hex; empty until it was told.
    #[serde(default)]
    pub word: String,
    /// Its agent's first password, and what it proves with that it was installed from what it was given.
    #[serde(default)]
    pub given: Option<SecretRef>,
    /// It was on when it was found: whatever ran there is nobody's here to switch off.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub was_on: bool,
    /// Nobody wants it any more; what was mounted for it is to be taken out.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub given_up: bool,
}
