//! A claimed hypervisor host.

use super::{
    DiskState, Entered, FencingTest, Installing, Keeper, LocalDisk, Maintenance,
    network::{HostNet, Uplink},
    volume::Path,
};
use crate::{
    ids::{ClusterId, HostId, SecretRef, SiteId, VolumeId},
    moment::Moment,
    units::{Bytes, Mhz},
};
use serde::{Deserialize, Serialize};
use std::{collections::BTreeMap, fmt};

/// The x86-64 psABI micro-architecture levels (System V ABI, AMD64 supplement, section 3.1.1).
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum PsabiLevel {
    V1,
    V2,
    V3,
    V4,
}

impl PsabiLevel {
    pub const ALL: [PsabiLevel; 4] = [
        PsabiLevel::V1,
        PsabiLevel::V2,
        PsabiLevel::V3,
        PsabiLevel::V4,
    ];

    pub fn word(self) -> &'static str {
        match self {
            PsabiLevel::V1 => "v1",
            PsabiLevel::V2 => "v2",
            PsabiLevel::V3 => "v3",
            PsabiLevel::V4 => "v4",
        }
    }
}

impl fmt::Display for PsabiLevel {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "x86-64-{}", self.word())
    }
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Cpu {
    pub maker: String,
    pub model: String,
    pub sockets: u32,
    /// Physical cores of the whole host.
    pub cores: u32,
    /// Hardware threads of the whole host.
    pub threads: u32,
    /// Base frequency of a core.
    pub base: Mhz,
    pub level: PsabiLevel,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Hardware {
    pub maker: String,
    pub model: String,
    pub serial: String,
    pub cpu: Cpu,
    pub memory: Bytes,
    pub numa_nodes: u32,
    /// Virtualization is switched on in the firmware.
    pub virtualization: bool,
    /// The newest virtual hardware version that it can run.
    pub virtual_hardware: u32,
}

impl Hardware {
    /// What every host must have.
    pub const LEAST_MEMORY: Bytes = Bytes::gib(16);
    pub const LEAST_CORES: u32 = 4;

    /// Whether it has less than every host must.
    pub fn is_too_small(&self) -> bool {
        self.memory < Self::LEAST_MEMORY || self.cpu.cores < Self::LEAST_CORES
    }
    /// Cores times base frequency.
    pub fn cpu_capacity(&self) -> Mhz {
        Mhz(u64::from(self.cpu.cores) * self.cpu.base.0)
    }
}

/// How to reach the agent: where, by which certificate, with which key.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Access {
    /// `ip:port`
    pub address: String,
    /// SHA-256 of the SubjectPublicKeyInfo, lower-case hex.
    pub pin: String,
    /// The per-host key; none until the claim is done.
    pub key: Option<SecretRef>,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Bmc {
    pub address: String,
    /// Pinned with the serial at the claim.
    pub pin: String,
    /// Who we are to it: our own account, or its maker's until it is claimed.
    #[serde(default = "us")]
    pub user: String,
    pub key: Option<SecretRef>,
}

fn us() -> String {
    Bmc::USER.into()
}

impl Bmc {
    /// The account that a claim makes for us.
    pub const USER: &str = "zastrugi";
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Condition {
    /// The claim is running.
    Claiming,
    Steady,
    /// Its agent hasn't answered since.
    Lost {
        since: Moment,
        why: String,
    },
    /// Its reports come, so what runs on it is known; what it is asked it does not answer.
    Hangs {
        since: Moment,
        why: String,
    },
    /// Its certificate is another one than the pinned; no orders until a person decides.
    Stranger {
        since: Moment,
        pin: String,
    },
    /// Proved off: by its controller, or on a person's word.
    Off {
        since: Moment,
        proof: String,
    },
    /// Its arrays let it reach nothing any more: it may have power, and writes nothing.
    ShutOut {
        since: Moment,
        proof: String,
    },
}

impl Condition {
    /// It is proved that nothing which it may still run writes to a disk.
    pub fn is_fenced(&self) -> bool {
        matches!(self, Condition::Off { .. } | Condition::ShutOut { .. })
    }
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Host {
    pub id: HostId,
    pub name: String,
    pub site: SiteId,
    pub cluster: Option<ClusterId>,
    pub access: Access,
    pub bmc: Option<Bmc>,
    pub hardware: Hardware,
    pub software: String,
    /// Its own, beside the one that it starts from.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub disks: Vec<LocalDisk>,
    pub condition: Condition,
    /// (boot identifier, sequence) of the last observation taken in; lower ones are dropped.
    pub seen: (u64, u64),
    /// Its name as an initiator; empty until it said so.
    #[serde(default)]
    pub initiator: String,
    /// The volumes that it mounts, with every path that it has to each.
    #[serde(default)]
    pub mounts: BTreeMap<VolumeId, Vec<Path>>,
    #[serde(default)]
    pub uplinks: Vec<Uplink>,
    /// The networks that it has, by name.
    #[serde(default)]
    pub networks: BTreeMap<String, HostNet>,
    /// Its place and whatever else is said of it; `rack`, `chassis` and `feed` are fault domains.
    #[serde(default)]
    pub labels: BTreeMap<String, String>,
    pub note: String,
    /// Whether an armed watchdog resets it when its lease has run out, as it reports.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub watchdog: bool,
    /// What stands in DNS for it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub entered: Option<Box<Entered>>,
    /// What came of trying its controller.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fencing: Option<FencingTest>,
    /// A person took it out of service.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub maintenance: Option<Box<Maintenance>>,
    /// Nothing is installed on it yet, or it is being.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub installing: Option<Box<Installing>>,
    /// The keepers that run on it, by the cluster that each watches, as it reports.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub keepers: BTreeMap<ClusterId, Keeper>,
}

impl Host {
    /// Volumes that it mounts and doesn't reach, and those that it reaches by fewer paths than it has.
    pub fn lost_paths(&self) -> (usize, usize) {
        let all = self
            .mounts
            .values()
            .filter(|paths| paths.iter().any(|p| !p.up));
        let dead = all
            .clone()
            .filter(|paths| !paths.iter().any(|p| p.up))
            .count();
        (dead, all.count() - dead)
    }
    /// What its own disks could lend.
    pub fn free_disks(&self) -> Bytes {
        let free = self.disks.iter().filter(|d| d.state == DiskState::Free);
        free.map(|d| d.size).sum()
    }
    /// How many paths to a volume work; 0 also where it isn't mounted.
    pub fn paths_up(&self, volume: VolumeId) -> usize {
        self.mounts
            .get(&volume)
            .map_or(0, |paths| paths.iter().filter(|p| p.up).count())
    }
    /// Labels that name what fails as one.
    pub const DOMAINS: [&'static str; 3] = ["rack", "chassis", "feed"];

    /// Its labels as `key=value`, or `key` where there is no value.
    pub fn label_words(&self) -> impl Iterator<Item = String> + '_ {
        super::label_words(&self.labels)
    }
    /// Whether it does what it is told.
    pub fn accepts_work(&self) -> bool {
        self.condition == Condition::Steady
    }
    /// Whether machines may be put there.
    pub fn takes_machines(&self) -> bool {
        self.accepts_work() && self.maintenance.is_none()
    }
    /// Whether its reports come, so that what is known of it is so.
    pub fn reports(&self) -> bool {
        matches!(self.condition, Condition::Steady | Condition::Hangs { .. })
    }
    /// Since when nobody hears of it, so that nobody knows what runs on it.
    pub fn silent_since(&self) -> Option<Moment> {
        match &self.condition {
            Condition::Lost { since, .. } | Condition::Stranger { since, .. } => Some(*since),
            Condition::Claiming
            | Condition::Steady
            | Condition::Hangs { .. }
            | Condition::Off { .. }
            | Condition::ShutOut { .. } => None,
        }
    }
    /// Whether it has failed: it is off, or nobody can tell it anything.
    pub fn is_gone(&self) -> bool {
        self.condition.is_fenced() || self.silent_since().is_some()
    }
    /// Why nothing can be asked of its agent; none where it answers.
    pub fn out_of_reach(&self) -> Option<String> {
        match &self.condition {
            Condition::Claiming | Condition::Steady => None,
            Condition::Lost { why, .. } => Some(format!("{} does not answer: {why}", self.name)),
            Condition::Hangs { why, .. } => Some(format!(
                "{} reports, and answers nothing that it is asked: {why}",
                self.name
            )),
            Condition::Stranger { .. } => Some(format!(
                "{} shows another certificate than the pinned one",
                self.name
            )),
            Condition::Off { .. } => Some(format!("{} is off", self.name)),
            Condition::ShutOut { .. } => Some(format!(
                "{} is shut out of its storage and does not answer",
                self.name
            )),
        }
    }
    /// What the host keeps for itself: 4 GiB + 2 % of installed (rules, section 1.2).
    pub fn reserve(&self) -> Bytes {
        Bytes::gib(4) + self.hardware.memory.per_mille(20)
    }
    /// Installed memory less the host's own reserve.
    pub fn usable(&self) -> Bytes {
        self.hardware.memory.less(self.reserve())
    }
}
