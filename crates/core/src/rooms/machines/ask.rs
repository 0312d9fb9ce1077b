//! Creating machines, their power, their end.

use super::{Step, create, lifecycle, power, recover};
use crate::{
    copying::Source,
    text::{Line, Note},
    endpoint::Password,
    permits::Act,
    road::{Ask as Asked, Draft},
    estate::{BootFrom, FirmwareWish, Memory, Provisioning},
    ids::{ClusterId, FirstBootId, HostId, ImageId, MachineId, NetworkId, PledgeId, VolumeId},
    moment::Span,
    units::Bytes,
};
use serde::{Deserialize, Serialize};
use std::{
    collections::{BTreeMap, BTreeSet},
    net::IpAddr,
};

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ask {
    Create(Box<CreateMachines>),
    Power {
        machines: Vec<MachineId>,
        act: PowerAct,
    },
    Delete {
        machines: Vec<MachineId>,
    },
    Recover {
        machines: Vec<MachineId>,
        #[serde(default, skip_serializing_if = "Back::is_plain")]
        how: Back,
    },
    /// `typed` is the name (or the number of machines) that the person typed to confirm.
    Purge {
        machines: Vec<MachineId>,
        typed: Line,
    },
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        BTreeSet::from([match self {
            Ask::Create(_) | Ask::Power { .. } | Ask::Delete { .. } | Ask::Recover { .. } => {
                Act::Machines
            }
            Ask::Purge { .. } => Act::Purge,
        }])
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        match self {
            Ask::Create(ask) => create::create(draft, ask),
            Ask::Power { machines, act } => power::power(draft, machines, *act),
            Ask::Delete { machines } => lifecycle::delete(draft, machines),
            Ask::Recover { machines, how } => recover::recover(draft, machines, how),
            Ask::Purge { machines, typed } => lifecycle::purge(draft, machines, typed),
        }
    }

    fn password(&mut self) -> Option<&mut Password> {
        None
    }
}

/// A network card of a new machine.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct NewNic {
    pub network: Option<NetworkId>,
    /// None: the next free one, where the network has addresses for guests.
    pub address: Option<IpAddr>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct NewDisk {
    pub size: Bytes,
    pub provisioning: Provisioning,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct CreateMachines {
    /// A name, with `{01}` for a running number.
    pub pattern: Line,
    pub count: u32,
    pub cluster: Option<ClusterId>,
    /// What the volume must offer.
    #[serde(default)]
    pub qualities: BTreeSet<Line>,
    /// What they are promised, beside what their labels give them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pledge: Option<PledgeId>,
    /// None: the best of those, with reasons.
    pub volume: Option<VolumeId>,
    /// None: the best, with reasons.
    pub host: Option<HostId>,
    pub vcpus: u32,
    pub memory: Memory,
    pub disks: Vec<NewDisk>,
    pub nics: Vec<NewNic>,
    /// What their disks are copies of; none: they are empty.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub copied: Option<Copied>,
    /// Where they are made from an archive: what its author leaves to whoever takes it in.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub taken: Option<Box<Taken>>,
    /// What they boot with.
    #[serde(default, skip_serializing_if = "FirmwareWish::is_none")]
    pub firmware: FirmwareWish,
    /// An image in the drive.
    #[serde(default)]
    pub image: Option<ImageId>,
    /// What the first boot is from; none for the usual order.
    #[serde(default)]
    pub first_boot: Option<BootFrom>,
    /// What their guests are told at the first boot, in its newest version; none: names and addresses only.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub document: Option<FirstBootId>,
    pub labels: BTreeMap<Line, Line>,
    pub tier: u8,
    pub protected: bool,
    /// Keep these machines on different hosts.
    pub apart: bool,
    pub note: Note,
    /// Power on when made.
    pub start: bool,
}

/// How machines are made from something that is there.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Copied {
    pub source: Source,
    /// Their disks hold only what is otherwise than on those of the version.
    pub dependent: bool,
    /// What makes the original's guest itself is removed from the copies.
    pub seal: bool,
}

/// How deleted machines come back.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Back {
    /// They are powered on at once.
    pub start: bool,
    /// Where; none: the best host for each.
    pub host: Option<HostId>,
    /// For each card of a single machine the network that it gets; none: its own.
    #[serde(default)]
    pub networks: Vec<Option<NetworkId>>,
}

impl Back {
    /// Off, and as it was.
    fn is_plain(&self) -> bool {
        *self == Back::default()
    }
}

/// Choices about an archive.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Taken {
    /// Empty: the usual one.
    pub configuration: Line,
    /// Its licences are.
    pub accepted: bool,
    /// Cards have the addresses that the archive names.
    pub keep_macs: bool,
    /// Values other than the author's.
    pub properties: BTreeMap<Line, Line>,
}

/// What happens when a guest doesn't stop by itself in time.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum AfterGrace {
    LeaveOn,
    PowerOff,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum PowerAct {
    /// `host`: None for the best.
    On {
        host: Option<HostId>,
    },
    /// Asks the guest agent.
    Stop {
        grace: Span,
        then: AfterGrace,
    },
    /// Like pulling the plug.
    Off,
    Restart {
        grace: Span,
        then: AfterGrace,
    },
}

impl PowerAct {
    pub fn word(self) -> &'static str {
        match self {
            PowerAct::On { .. } => "power on",
            PowerAct::Stop { .. } => "stop",
            PowerAct::Off => "power off",
            PowerAct::Restart { .. } => "restart",
        }
    }
}
