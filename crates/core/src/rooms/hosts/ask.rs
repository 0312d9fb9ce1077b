//! Claiming found hosts, their power, and handing hosts back.

use super::{Step, assess, power, test};
use crate::{
    text::Line,
    endpoint::Password,
    permits::Act,
    road::{Ask as Asked, Draft},
    endpoint::Endpoint,
    ids::HostId,
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ask {
    Claim(ClaimHosts),
    HandBack { hosts: Vec<HostId> },
    /// By its controller.
    Power { host: HostId, act: HostPower },
    /// Whether its controller does what it is told is tried.
    TestFencing { hosts: Vec<HostId> },
    /// On a person's word; `typed` is the host's name.
    DeclareOff { host: HostId, typed: Line },
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum HostPower {
    /// Off, and proved so.
    Off,
    On,
    /// Off, proved so, and on again.
    Restart,
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        BTreeSet::from([Act::Hosts])
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        match self {
            Ask::Claim(claim) => assess::claim(draft, claim),
            Ask::HandBack { hosts } => assess::hand_back(draft, hosts),
            Ask::Power { host, act } => power::power(draft, *host, *act),
            Ask::TestFencing { hosts } => test::fencing(draft, hosts),
            Ask::DeclareOff { host, typed } => power::declare(draft, *host, typed),
        }
    }

    fn password(&mut self) -> Option<&mut Password> {
        match self {
            Ask::Claim(claim) => Some(&mut claim.password),
            Ask::HandBack { .. } | Ask::Power { .. } | Ask::TestFencing { .. } | Ask::DeclareOff { .. } => None,
        }
    }
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ClaimHosts {
    pub targets: Vec<Endpoint>,
    /// An existing site, or the name of a new one.
    pub site: Line,
    pub password: Password,
}
