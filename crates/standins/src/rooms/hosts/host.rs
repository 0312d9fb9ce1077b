//! One simulated host: what it is, who owns it, what runs on it, and what it has answered to which key.

use crate::{
    rooms::hosts::host_console::HostConsole,
    rooms::machines::guest::Guest,
    rooms::networks::network::{HostNet, Uplink},
};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet};

#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Host {
    pub(crate) name: String,
    pub(crate) address: String,
    pub(crate) bmc_address: String,
    pub(crate) maker: String,
    pub(crate) model: String,
    pub(crate) serial: String,
    pub(crate) cpu: Cpu,
    pub(crate) memory: u64,
    /// Its own disks, beside the one that it starts from.
    #[serde(default)]
    pub(crate) local: Vec<crate::rooms::storage::pools::LocalDisk>,
    pub(crate) software: String,
    pub(crate) virtualization: bool,
    pub(crate) clock_offset_ms: i64,
    /// Whom it asks for the time: `ip:port`.
    #[serde(default)]
    pub(crate) time: Vec<String>,
    /// Its name as an initiator.
    #[serde(default)]
    pub(crate) iqn: String,
    #[serde(default)]
    pub(crate) uplinks: Vec<Uplink>,
    #[serde(default)]
    pub(crate) networks: BTreeMap<String, HostNet>,
    /// Portals that it is logged in on.
    #[serde(default)]
    pub(crate) logins: BTreeSet<String>,
    /// Portals that it can't reach, whatever they do.
    #[serde(default)]
    pub(crate) cut: BTreeSet<String>,
    /// Arrays offer it nothing of what it mounted, by somebody's mistake.
    #[serde(default)]
    pub(crate) unoffered: bool,
    /// PEM of its own certificate and key, and of its controller's.
    pub(crate) identity: Identity,
    pub(crate) bmc_identity: Identity,
    pub(crate) password: String,
    pub(crate) wrong_passwords: u32,
    /// SHA-256 of the password with which it was claimed; it opens nothing any more but that claim's kept answer.
    #[serde(default)]
    pub(crate) claimed_with: Option<String>,
    pub(crate) owner: Option<Owner>,
    pub(crate) bmc_password: String,
    pub(crate) power: bool,
    /// What it is beneath its agent.
    #[serde(default)]
    pub(crate) bare: crate::rooms::installing::bare::Bare,
    /// It has power and answers nobody, until its power was off.
    #[serde(default)]
    pub(crate) hung: bool,
    /// All of it hangs, its guests too; nothing but its watchdog goes on.
    #[serde(default)]
    pub(crate) stalled: bool,
    /// An armed watchdog resets it when its lease has run out.
    #[serde(default = "yes")]
    pub(crate) watchdog: bool,
    #[serde(skip)]
    pub(crate) lease: crate::rooms::hosts::leases::HostLease,
    /// Machines that it ended since its boot without being asked by whoever uses them.
    #[serde(default)]
    pub(crate) fell: BTreeSet<String>,
    /// By volume, under which number it ended what it ran because its lease there told it.
    #[serde(default)]
    pub(crate) ended: BTreeMap<String, u64>,
    /// How its controller deceives.
    #[serde(default)]
    pub(crate) deceit: Deceit,
    #[serde(skip)]
    pub(crate) bmc_sessions: crate::rooms::hosts::bmc::Sessions,
    /// Every reset that its controller was told, in order, done or not.
    #[serde(default)]
    pub(crate) bmc_told: Vec<String>,
    /// Its controller has no power.
    #[serde(default)]
    pub(crate) bmc_silent: bool,
    pub(crate) boot: u64,
    pub(crate) cluster: Option<String>,
    pub(crate) mounted: BTreeSet<String>,
    pub(crate) guests: BTreeMap<String, Guest>,
    /// Key → (status, answer), kept with the effect.
    pub(crate) answers: BTreeMap<String, (u16, Value)>,
    /// How often each key had an effect.
    pub(crate) effects: BTreeMap<String, u32>,
    pub(crate) fence: u64,
    /// Of what it does itself with something shared, such as its mount of a volume.
    #[serde(default)]
    pub(crate) fences: BTreeMap<String, u64>,
    #[serde(default)]
    pub(crate) seen: crate::agent::Seen,
    /// What keepers were given, by the cluster that each watches.
    #[serde(default)]
    pub(crate) keepers: BTreeMap<String, crate::rooms::keepers::calls::Given>,
    /// Those that run, with whether each says that it decides.
    #[serde(skip)]
    pub(crate) keepers_run: BTreeMap<String, bool>,
    #[serde(skip)]
    pub(crate) console: HostConsole,
    /// The last picture of each machine that ended here in some other way than by itself.
    #[serde(skip)]
    pub(crate) kept: BTreeMap<String, Kept>,
}

fn yes() -> bool {
    true
}

/// What a controller does instead of what it says.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Deceit {
    #[default]
    None,
    /// Says off, whatever is so.
    SaysOff,
    /// Answers for another host.
    OtherSerial,
    /// Takes orders and does nothing.
    DoesNothing,
}

/// A picture of a screen that was kept.
#[derive(Debug, Clone)]
pub(crate) struct Kept {
    /// When, in virtual milliseconds.
    pub(crate) number: i64,
    pub(crate) why: String,
    pub(crate) png: Vec<u8>,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Cpu {
    pub(crate) maker: String,
    pub(crate) model: String,
    pub(crate) level: String,
    pub(crate) sockets: u32,
    pub(crate) cores: u32,
    pub(crate) base_mhz: u64,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Identity {
    pub(crate) certificate: String,
    pub(crate) key: String,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Owner {
    pub(crate) installation: String,
    pub(crate) name: String,
    /// SHA-256 of the key that the owner uses.
    pub(crate) key: String,
}
