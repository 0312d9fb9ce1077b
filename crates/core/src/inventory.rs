//! What a host carries that another manager runs: read with the host's own password, and nothing of it changed (rules, section 30).

use crate::{
    estate::{HostNet, Uplink},
    evidence::SeenVolume,
    moment::Span,
};
use serde::{Deserialize, Serialize};
use std::{collections::BTreeMap, net::IpAddr};
use uuid::Uuid;

/// A manager must have been silent for so long before anything is taken from it (rules, section 30).
pub const SILENT_FOR: Span = Span::mins(10);

/// All that one host has.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Inventory {
    /// None: it is nobody's.
    pub former: Option<Former>,
    pub volumes: Vec<CarriedVolume>,
    pub networks: BTreeMap<String, HostNet>,
    pub uplinks: Vec<Uplink>,
    /// What runs there beside machines, in the host's own words.
    pub others: Vec<String>,
}

/// Whoever gave the host its orders.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Former {
    pub id: String,
    pub name: String,
    /// Since its last order at this host.
    pub silent: Span,
    /// It acts here without anybody's word: what it balances, restarts or patches would meet what we do.
    pub automation: bool,
}

impl Former {
    /// Whether nothing more is to be expected of it.
    ///
    /// # Errors
    /// Words: what it still does.
    pub fn is_gone(&self) -> Result<(), String> {
        let name = &self.name;
        if self.automation {
            return Err(format!("The automation of {name} is on"));
        }
        if self.silent < SILENT_FOR {
            return Err(format!("{name} gave an order {} ago", self.silent));
        }
        Ok(())
    }
}

/// A volume that the host mounts, with what lies on it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct CarriedVolume {
    pub seen: SeenVolume,
    /// The installation that owns it: its identifier and name.
    pub owner: Option<(String, String)>,
    pub machines: Vec<CarriedMachine>,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct CarriedMachine {
    pub uuid: Uuid,
    pub name: String,
    /// The host that holds its run lease, by the name that it calls itself; none: it is off.
    pub on: Option<String>,
    /// How long it has been on, where it runs on the host that says so.
    pub up: Option<Span>,
    pub nics: Vec<CarriedNic>,
    /// Version of its virtual hardware.
    pub hardware: u32,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct CarriedNic {
    pub mac: String,
    pub network: Option<String>,
    pub addresses: Vec<IpAddr>,
}
