//! Answers to read-only probes, with the time they were taken and the time they expire.

use crate::{
    estate::{
        Hardware, Kept, LocalDisk, Path, PointAt, PoolHealth, Share, SharedDisks, Unattached,
    },
    ids::{ArrayId, HostId, ImageId, MachineId, NetworkId, SecretRef},
    inventory::Inventory,
    layers::Chain,
    limits,
    moment::{Moment, Span},
    ovf::Package,
    units::Bytes,
};
use imbl::OrdMap;
use serde::{Deserialize, Serialize};
use std::{
    collections::{BTreeMap, BTreeSet},
    net::IpAddr,
};

/// A question that changes nothing.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Probe {
    /// Who is at this address (`ip:port`)?
    Greeting(String),
    /// How far is this host's clock from ours?
    Clock(HostId),
    /// Does the management controller of this host answer, and for the pinned serial?
    Bmc(HostId),
    /// Which volumes and machine records does this host see?
    Sight(HostId),
    /// Who manages storage at this address (`ip:port`)?
    ArrayGreeting(String),
    /// Who manages a switch at this address (`ip:port`)?
    SwitchGreeting(String),
    /// Who balances at this address (`ip:port`)?
    BalancerGreeting(String),
    /// Who has buckets at this address (`ip:port`)?
    StoreGreeting(String),
    /// Does a packet of the network's MTU get from one host to another, unfragmented?
    Mtu {
        network: NetworkId,
        from: HostId,
        to: HostId,
    },
    /// How long does a packet from one host to another and back take?
    RoundTrip { from: HostId, to: HostId },
    /// Which volumes does this array have, and who may reach each?
    Luns(ArrayId),
    /// What is offered to this host, and what is on it?
    Devices(HostId),
    /// Which management controller is at this address (`ip:port`)?
    ControllerGreeting(String),
    /// What does the controller at this address say of the host beneath it? The certificate that it showed, who asks, with which
    /// password: one that is refused is not sent again.
    Beneath {
        address: String,
        pin: String,
        user: String,
        password: SecretRef,
    },
    /// What does this host have, that another manager runs? The certificate that it showed, and its own password: one that is
    /// refused is not sent again.
    Inventory {
        address: String,
        pin: String,
        password: SecretRef,
    },
    /// What has this manager got to install hosts from?
    Installations,
    /// Which exports for backups are mounted where this manager runs?
    Exports,
    /// Is this name server (`ip:port`) in charge of the zone?
    Zone { server: String, zone: String },
    /// Where does a name lead at this name server (`ip:port`), and what does the address lead back to that it shall have?
    Named {
        server: String,
        name: String,
        address: IpAddr,
    },
    /// Who has an address on a network, as a host there sees it (RFC 826, RFC 4861)?
    Neighbour {
        network: NetworkId,
        host: HostId,
        address: IpAddr,
    },
    /// Which blocks do the layers of this machine's disks hold?
    Layers(MachineId),
    /// What is in an archive?
    Package(ImageId),
    /// What does a recovery point have, as its store has it?
    Point(PointAt),
    /// How far is what this time source (`ip:port`) says from our clock?
    Time(String),
}

/// An export that is there.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SeenExport {
    pub name: String,
    /// It is a file system of its own.
    pub mounted: bool,
    pub size: Bytes,
    pub free: Bytes,
}

/// A host as its controller knows it, whatever is installed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Beneath {
    pub maker: String,
    pub model: String,
    pub serial: String,
    pub on: bool,
    pub cpu: String,
    pub sockets: u32,
    pub cores: u32,
    pub threads: u32,
    pub memory: Bytes,
    pub ports: Vec<Port>,
    /// What lies on its disks, by name.
    pub disks: Vec<String>,
    /// The disks themselves, that one included from which it will start.
    #[serde(default)]
    pub drives: Vec<LocalDisk>,
    /// How many media it can mount over the network.
    pub slots: usize,
}

/// A network port of a host.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Port {
    pub name: String,
    pub mac: String,
    pub mbit: u64,
    pub up: bool,
}

/// Something that hosts can be installed from.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Medium {
    /// The name of its file.
    pub file: String,
    /// Of the software on it.
    pub version: String,
    /// Made for hardware of this maker; none: for all.
    pub maker: Option<String>,
    pub size: Bytes,
}

/// What a host says of itself to anybody.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Greeting {
    pub name: String,
    /// SHA-256 of the SubjectPublicKeyInfo, lower-case hex.
    pub pin: String,
    pub hardware: Hardware,
    pub software: String,
    /// The installation that owns it, if any: its identifier and name.
    pub owner: Option<(String, String)>,
    /// Machines that run on it now.
    pub machines: Vec<String>,
    pub bmc: Option<String>,
}

/// A volume as one host sees it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SeenVolume {
    pub uid: String,
    pub name: String,
    pub capacity: Bytes,
    pub used: Bytes,
    /// Every path that the host has to it.
    #[serde(default)]
    pub paths: Vec<Path>,
    /// What is beneath it, where that is the hosts' own disks.
    #[serde(default)]
    pub pool: Option<SeenPool>,
    /// Disks on it that no machine has; none: the agent says nothing of them.
    #[serde(default)]
    pub unattached: Option<Box<Unattached>>,
    /// Disks on it that several machines have; none: the agent says nothing of them.
    #[serde(default)]
    pub shared: Option<Box<SharedDisks>>,
    /// Another word whenever a record of a machine comes to it or goes; none: the agent says nothing of them.
    #[serde(default)]
    pub records: Option<String>,
}

/// A volume of hosts' own disks as one of them tells it; the others by their serials.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SeenPool {
    pub copies: u8,
    pub wait: Span,
    pub members: BTreeMap<String, Share>,
    pub health: PoolHealth,
}

/// A volume as its array tells it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SeenLun {
    /// The array's own number of it.
    pub id: String,
    pub uid: String,
    pub name: String,
    pub pool: String,
    pub capacity: Bytes,
    pub used: Bytes,
    /// Who may reach it.
    pub initiators: Vec<String>,
}

/// A device as one host sees it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SeenDevice {
    pub uid: String,
    /// What it was formatted with; none where nothing known was found.
    pub signature: Option<String>,
    /// The sampled blocks are zero.
    pub zero: bool,
    /// Our own format: the installation that owns it, its identifier and name.
    pub owner: Option<(String, String)>,
    pub machines: u32,
    pub mounted: bool,
}

impl SeenDevice {
    /// The signature of our own format.
    pub const OURS: &str = "zastrugi 1";

    pub fn has_our_format(&self) -> bool {
        self.signature.as_deref() == Some(Self::OURS)
    }
    /// No known signature, and the sampled blocks are zero (rules, section 8).
    pub fn is_blank(&self) -> bool {
        self.signature.is_none() && self.zero
    }
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Answer {
    Greeting(Box<Greeting>),
    /// Host minus manager, in milliseconds, at the middle of the exchange.
    Clock {
        offset_ms: i64,
    },
    Bmc {
        power: String,
        serial: String,
    },
    Sight {
        volumes: Vec<SeenVolume>,
    },
    /// Who manages an array or a switch.
    Manager {
        name: String,
        pin: String,
    },
    /// `bytes` is the payload of the IP packet that was tried.
    Mtu {
        bytes: u32,
        through: bool,
    },
    /// The shortest of several, in microseconds.
    RoundTrip {
        micros: u64,
    },
    Luns {
        luns: Vec<SeenLun>,
    },
    Devices {
        initiator: String,
        devices: Vec<SeenDevice>,
    },
    Beneath(Box<Beneath>),
    Inventory(Box<Inventory>),
    Installations {
        media: Vec<Medium>,
    },
    Exports {
        all: Vec<SeenExport>,
    },
    /// The serial of the zone that it is in charge of; none: it is not.
    Zone {
        serial: Option<u32>,
    },
    /// Names without a dot at their end.
    Named {
        forward: BTreeSet<IpAddr>,
        back: Vec<String>,
    },
    /// The hardware address of whoever has it; none: nobody answers.
    Neighbour {
        mac: Option<String>,
    },
    Layers(Box<Chain>),
    Package(Box<Package>),
    Point(Box<Kept>),
    /// It did not take who asks; the same is not tried again as long as this lasts.
    Refused {
        why: String,
    },
    /// It was asked and didn't give a usable answer.
    Silent {
        why: String,
    },
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Evidence {
    pub answer: Answer,
    pub taken: Moment,
    pub expires: Moment,
}

/// Clocks further apart than this are a finding (rules, section 9).
pub const CLOCKS_APART_MS: i64 = 100;

/// How long an answer may be rested on.
pub fn lifetime(probe: &Probe) -> Span {
    match probe {
        Probe::Greeting(_)
        | Probe::ArrayGreeting(_)
        | Probe::SwitchGreeting(_)
        | Probe::BalancerGreeting(_)
        | Probe::StoreGreeting(_)
        | Probe::ControllerGreeting(_)
        | Probe::Beneath { .. } => Span::mins(30),
        Probe::Clock(_)
        | Probe::Bmc(_)
        | Probe::Sight(_)
        | Probe::Time(_)
        | Probe::Zone { .. }
        | Probe::Named { .. } => Span::mins(5),
        Probe::Neighbour { .. }
        | Probe::Layers(_)
        | Probe::Luns(_)
        | Probe::Devices(_)
        | Probe::Installations
        | Probe::Exports
        | Probe::Inventory { .. } => Span::mins(2),
        Probe::Package(_) | Probe::Point(_) | Probe::Mtu { .. } | Probe::RoundTrip { .. } => {
            Span::mins(30)
        }
    }
}

/// Everything that was asked lately.
#[derive(Debug, Clone, Default)]
pub struct EvidenceBook {
    pub answers: OrdMap<Probe, Evidence>,
}

impl EvidenceBook {
    /// The answer, if there is one that hasn't expired.
    pub fn fresh(&self, probe: &Probe, now: Moment) -> Option<&Answer> {
        self.answers
            .get(probe)
            .filter(|e| e.expires > now)
            .map(|e| &e.answer)
    }
    /// The certificate that an array's or switch's management showed, by SHA-256; empty where it showed none.
    pub fn manager_pin(&self, probe: &Probe) -> String {
        match self.answers.get(probe).map(|e| &e.answer) {
            Some(Answer::Manager { pin, .. }) => pin.clone(),
            _ => String::new(),
        }
    }
    pub fn put(&mut self, probe: Probe, answer: Answer, now: Moment) {
        // A silence is asked again soon: somebody may be mending it.
        let lasts = match answer {
            Answer::Silent { .. } => Span::secs(20),
            _ => lifetime(&probe),
        };
        let expires = now.plus(lasts);
        if self.answers.len() >= limits::EVIDENCE.most && !self.answers.contains_key(&probe) {
            let good =
                |(p, e): (&Probe, &Evidence)| (e.expires > now).then(|| (p.clone(), e.clone()));
            self.answers = self.answers.iter().filter_map(good).collect();
            let oldest = self.answers.iter().min_by_key(|(_, e)| e.taken);
            if self.answers.len() >= limits::EVIDENCE.most
                && let Some(oldest) = oldest.map(|(p, _)| p.clone())
            {
                self.answers.remove(&oldest);
            }
        }
        self.answers.insert(
            probe,
            Evidence {
                answer,
                taken: now,
                expires,
            },
        );
    }
}
