//! Connecting switches, making networks on all hosts of a cluster, mending and removing them.

use super::{Step, assess};
use crate::{
    text::Line,
    endpoint::Password,
    permits::Act,
    road::{Ask as Asked, Draft},
    endpoint::Endpoint,
    estate::{NetRole, Subnet},
    ids::{ClusterId, NetworkId},
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ask {
    ConnectSwitch(ConnectSwitch),
    Create(CreateNetwork),
    /// Set it up again on every host that has it otherwise or not at all.
    Heal {
        network: NetworkId,
    },
    /// `typed`: its name, where hosts need it themselves.
    Remove {
        network: NetworkId,
        #[serde(default, skip_serializing_if = "str::is_empty")]
        typed: Line,
    },
    Change(ChangeNetwork),
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        BTreeSet::from([Act::Storage])
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        match self {
            Ask::ConnectSwitch(ask) => assess::connect_switch(draft, ask),
            Ask::Create(ask) => assess::create(draft, ask, false),
            Ask::Heal { network } => assess::heal(draft, *network),
            Ask::Remove { network, typed } => assess::remove(draft, *network, typed),
            Ask::Change(ask) => assess::change(draft, ask),
        }
    }

    fn password(&mut self) -> Option<&mut Password> {
        match self {
            Ask::ConnectSwitch(connect) => Some(&mut connect.password),
            Ask::Create(_) | Ask::Heal { .. } | Ask::Remove { .. } | Ask::Change(_) => None,
        }
    }
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ConnectSwitch {
    pub target: Endpoint,
    pub site: Line,
    pub user: Line,
    pub password: Password,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct CreateNetwork {
    pub name: Line,
    pub cluster: Option<ClusterId>,
    pub role: NetRole,
    /// None: untagged.
    pub vlan: Option<u16>,
    pub mtu: u32,
    pub subnets: Vec<Subnet>,
    /// As hosts call them: one that no host has stops it. None: guests are alone on it, host by host.
    pub uplinks: BTreeSet<String>,
}

impl CreateNetwork {
    /// Guests alone, on no uplink and in no VLAN: it ends at each host.
    pub(super) fn is_isolated(&self) -> bool {
        self.role == NetRole::Guest && self.vlan.is_none() && self.uplinks.is_empty()
    }
}

/// How a network that is there shall be. Its name and VLAN are what it is known by on hosts and switches; they stay.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ChangeNetwork {
    pub network: NetworkId,
    pub role: NetRole,
    pub mtu: u32,
    pub subnets: Vec<Subnet>,
    pub uplinks: BTreeSet<String>,
}
