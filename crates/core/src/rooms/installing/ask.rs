//! Which hosts shall be installed, and from what.

use super::{Step, assess};
use crate::{
    endpoint::{Endpoint, Password},
    ids::HostId,
    permits::Act,
    road::{Ask as Asked, Draft},
    text::Line,
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ask {
    Install(Install),
    /// What was mounted for hosts that nobody wants to install any more is taken out.
    Withdraw {
        hosts: Vec<HostId>,
    },
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        BTreeSet::from([Act::Hosts])
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        match self {
            Ask::Install(ask) => drop(assess::install(draft, ask)),
            Ask::Withdraw { hosts } => assess::withdraw(draft, hosts),
        }
    }

    fn password(&mut self) -> Option<&mut Password> {
        match self {
            Ask::Install(ask) => Some(&mut ask.password),
            Ask::Withdraw { .. } => None,
        }
    }
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Install {
    pub hosts: Vec<BareHost>,
    /// An existing site, or the name of a new one.
    pub site: Line,
    /// The file that they are installed from.
    pub image: Line,
    /// The account of their controllers, as their maker set it up.
    pub user: Line,
    pub password: Password,
    /// Where their own addresses lie, with the prefix length: `10.1.2.0/24`.
    pub subnet: Line,
    pub gateway: Line,
    /// None: untagged.
    pub vlan: Option<u16>,
    /// Whom they ask for the time: addresses, perhaps with a port.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub time: Vec<Line>,
}

/// A host, by its controller, and what it shall be.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct BareHost {
    pub controller: Endpoint,
    pub name: Line,
    pub address: Line,
    /// What its disks hold may be erased.
    pub overwrite: bool,
    /// Where it stands, if not where the others do.
    #[serde(default, skip_serializing_if = "str::is_empty")]
    pub site: Line,
}

impl BareHost {
    /// Its name; by its controller where none was typed yet.
    pub(super) fn called(&self) -> &str {
        match self.name.trim() {
            "" => &self.controller.address,
            name => name,
        }
    }
    /// The field of its row in which `what` is typed.
    pub fn field(&self, what: &str) -> String {
        format!("{what}:{}", self.controller.address)
    }
}
