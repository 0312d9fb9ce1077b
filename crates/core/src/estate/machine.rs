//! A virtual machine: what it has, where it is, and what it should be doing.

use super::{Boot, Entered, Moved, Parent, Snapshots};
use crate::{
    ids::{ClusterId, HostId, MachineId, NetworkId, VolumeId},
    moment::Moment,
    units::Bytes,
};
use serde::{Deserialize, Serialize};
use std::{
    collections::{BTreeMap, BTreeSet},
    net::IpAddr,
};

/// *always kept* <= *size* <= *may grow to*.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Memory {
    /// Held for it on the host.
    pub kept: Bytes,
    pub size: Bytes,
    /// What it can be given while running.
    pub max: Bytes,
}

/// What a machine that is on runs with, where its next start is with something else.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Now {
    pub vcpus: u32,
    /// What it can be given while it runs.
    pub vcpus_max: u32,
    pub memory: Memory,
}

impl Now {
    pub fn most_vcpus(&self) -> u32 {
        self.vcpus_max.max(self.vcpus)
    }
}

/// What its guest's agent says that it can take while it runs.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Grows {
    pub memory: bool,
    pub vcpus: bool,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Provisioning {
    Thin,
    Thick,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Disk {
    /// Its own, wherever it goes. Nil until its host has told.
    #[serde(default, skip_serializing_if = "uuid::Uuid::is_nil")]
    pub key: uuid::Uuid,
    pub size: Bytes,
    pub provisioning: Provisioning,
    pub volume: VolumeId,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Nic {
    pub mac: String,
    /// None: on no network of ours.
    #[serde(default)]
    pub network: Option<NetworkId>,
    #[serde(default)]
    pub addresses: Vec<IpAddr>,
}

/// What the machine was last seen doing.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum MachineState {
    /// Its name and room are held; the run that makes it hasn't got there.
    Planned,
    Off,
    /// Booting, in this phase.
    Starting(String),
    /// Up; `guest` says whether its agent answers.
    Running {
        guest: bool,
    },
    Stopping,
    /// Halted by its host, for instance because its volume is full.
    Paused(String),
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Wanted {
    On,
    Off,
}

/// The point in its host's own sequence at which something was said of a machine. What the host sent before says nothing
/// of it any more.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct AsOf {
    pub host: HostId,
    pub boot: u64,
    pub seq: u64,
}

/// A machine that should be on and is off, because its host went down under it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Fell {
    pub host: HostId,
    pub at: Moment,
    /// The serial of the host that was proved off: it holds the machine's run lease and can't give it back.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub proved: Option<String>,
    /// Another site may have taken it over since.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub unsure: bool,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Machine {
    pub id: MachineId,
    pub uuid: uuid::Uuid,
    pub name: String,
    pub cluster: Option<ClusterId>,
    /// Where it is on, arriving, or held room for. None when it is off.
    pub host: Option<HostId>,
    /// Where a run is moving it; room is held for it there.
    #[serde(default)]
    pub arriving: Option<HostId>,
    pub state: MachineState,
    pub wanted: Wanted,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fell: Option<Fell>,
    /// With what it starts next.
    pub vcpus: u32,
    /// What it can be given while running; no less than it has.
    #[serde(default)]
    pub vcpus_max: u32,
    pub memory: Memory,
    /// With what it runs, where that is something else.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub now: Option<Box<Now>>,
    #[serde(default)]
    pub grows: Grows,
    pub video: Bytes,
    pub disks: Vec<Disk>,
    pub nics: Vec<Nic>,
    #[serde(default)]
    pub boot: Boot,
    pub labels: BTreeMap<String, String>,
    /// 1 restarts first.
    pub tier: u8,
    /// Started on another host when its own fails.
    #[serde(default = "yes")]
    pub restarts: bool,
    /// It boots once this machine answers.
    #[serde(default)]
    pub after: Option<MachineId>,
    /// The manager that watches all this runs in it: it is brought back before all others.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub carries: bool,
    /// Can't be deleted until somebody takes this away.
    pub protected: bool,
    /// Machines of one keep-apart group never share a host.
    pub apart: Option<String>,
    /// Of the run lease on its volume; grows with every start.
    pub generation: u64,
    /// What its host said of it last.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub as_of: Option<AsOf>,
    /// Changes whenever what its guest knows is not what it last knew: as a copy, or gone back to a snapshot. As its host told last.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub generation_id: Option<uuid::Uuid>,
    /// SHA-256 of the guest's own public key, which its first host made for it.
    pub guest_key: Option<String>,
    /// When the machine was deleted; recoverable until [`Machine::KEPT_DAYS`] later.
    pub deleted: Option<Moment>,
    pub note: String,
    /// The name under which it was found, where another machine had that name; until somebody gives it one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub found_as: Option<String>,
    pub virtual_hardware: u32,
    pub created: Moment,
    /// What stands in DNS for it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub entered: Option<Box<Entered>>,
    #[serde(default)]
    pub moved: Option<Box<Moved>>,
    #[serde(default, skip_serializing_if = "no_snapshots")]
    pub snapshots: Box<Snapshots>,
    /// Its disks hold only what is otherwise than on those of this version.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub parent: Option<Parent>,
    /// What it was made from, in words; nothing: from empty disks.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub made_from: String,
    /// What its guest is told at its first boot; none: its name and its addresses.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub first_boot: Option<Box<super::Booted>>,
    /// What the author of an archive lets guests know (DSP0243, section 9.5): by key.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub properties: BTreeMap<String, String>,
    /// Where the hash of the password is kept that opens its console; none: it needs none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub console_lock: Option<crate::ids::SecretRef>,
    /// The pool that made it, and whom it was handed out to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub of_pool: Option<Box<super::OfPool>>,
    /// None: its host doesn't say.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub firmware: Option<Box<super::Firmware>>,
    /// Disks that other machines have too.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub shares: Vec<super::SharedAs>,
    /// Pledges that it was given by hand, and disks of which nothing is promised.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pledged: Option<Box<super::Pledged>>,
    /// What its guest must answer to be well.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub must: Vec<super::Question>,
    /// It is a copy that is there only to prove this recovery point.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub proves: Option<Box<super::AnyPoint>>,
    /// It is what another site has of this machine, and follows it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub replica: Option<Box<super::Replica>>,
    /// It is not at the site where it belongs.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub crossed: Option<super::Crossed>,
    /// Identities that it had at other places: copies were made of it by these too.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub was: Vec<uuid::Uuid>,
    /// What it has of the time when it was a replica.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub points: Vec<super::StoredPoint>,
}

fn no_snapshots(all: &Snapshots) -> bool {
    all.is_empty() && all.rests_on.is_none()
}

fn yes() -> bool {
    true
}

impl Machine {
    /// Whether a report of this host, at this point of its sequence, is older than what is known of the machine.
    pub fn knows_better(&self, report: AsOf) -> bool {
        self.as_of.is_some_and(|known| {
            known.host == report.host && (known.boot, known.seq) > (report.boot, report.seq)
        })
    }
    /// How long a deleted machine stays recoverable (rules, section 8).
    pub const KEPT_DAYS: u64 = 7;

    pub fn most_vcpus(&self) -> u32 {
        self.vcpus_max.max(self.vcpus)
    }
    /// With what it runs while it is on.
    pub fn runs_with(&self) -> Now {
        let set = Now {
            vcpus: self.vcpus,
            vcpus_max: self.most_vcpus(),
            memory: self.memory,
        };
        self.now.as_deref().copied().unwrap_or(set)
    }
    /// A change of its sizes: what it runs with stays as it is, but for what is always kept.
    pub fn resize(&mut self, change: impl FnOnce(&mut Machine)) {
        let mut now = self.runs_with();
        change(self);
        now.memory.kept = self.memory.kept.min(now.memory.size);
        self.now = (!self.is_off()).then(|| Box::new(now));
        self.settle();
    }
    /// It runs with this.
    pub fn runs(&mut self, now: Option<Now>) {
        self.now = now.map(Box::new);
        self.settle();
    }
    /// What is no difference is none.
    fn settle(&mut self) {
        let set = Now {
            vcpus: self.vcpus,
            vcpus_max: self.most_vcpus(),
            memory: self.memory,
        };
        self.now.take_if(|now| **now == set);
    }

    /// Memory that the host spends on the machine besides its own (rules, section 1.2):
    /// 128 MiB + 8 MiB per vCPU + 0.4 % of size + video memory + 16 MiB per disk and NIC. Of what it runs with and what it starts
    /// with next, the larger counts.
    pub fn overhead(&self) -> Bytes {
        let now = self.runs_with();
        let devices = u64::try_from(self.disks.len() + self.shares.len() + self.nics.len())
            .unwrap_or(u64::MAX);
        Bytes::mib(128)
            + Bytes::mib(8).times(u64::from(self.vcpus.max(now.vcpus)))
            + self.memory.size.max(now.memory.size).per_mille(4)
            + self.video
            + Bytes::mib(16).times(devices)
    }
    /// What it holds on the host where it is.
    pub fn held(&self) -> Bytes {
        self.memory.kept.max(self.runs_with().memory.kept) + self.overhead()
    }
    /// The place of a disk among its disks.
    pub fn disk(&self, key: uuid::Uuid) -> Option<(usize, &Disk)> {
        let mut all = self.disks.iter().enumerate();
        all.find(|(_, d)| d.key == key && !key.is_nil())
    }
    pub fn volumes(&self) -> BTreeSet<VolumeId> {
        self.disks.iter().map(|d| d.volume).collect()
    }
    /// What its host must mount: the volumes of its disks, of those that it shares, and of the image in its drive.
    pub fn mounts(&self) -> BTreeSet<VolumeId> {
        let image = self.boot.attached.map(|a| a.volume);
        let shared = self.shares.iter().map(|s| s.volume);
        self.volumes()
            .into_iter()
            .chain(image)
            .chain(shared)
            .collect()
    }
    /// Its labels as `key=value`, or `key` where there is no value.
    pub fn label_words(&self) -> impl Iterator<Item = String> + '_ {
        super::label_words(&self.labels)
    }
    pub fn is_off(&self) -> bool {
        matches!(self.state, MachineState::Off | MachineState::Planned)
    }
    /// Off under it: its host went down. It should be on as long as nobody says otherwise.
    pub fn falls(&mut self, fell: Fell) {
        if self.is_off() {
            return;
        }
        if self.wanted == Wanted::On && self.deleted.is_none() {
            self.fell = Some(fell);
        }
        self.state = MachineState::Off;
        self.host = None;
        self.now = None;
    }
    /// Thick room + what the thin disks could grow to.
    pub fn disk_total(&self) -> Bytes {
        self.disks.iter().map(|d| d.size).sum()
    }
    /// Room that the volume must have when the machine is made: thick in full, thin a tenth.
    pub fn first_room(&self) -> Bytes {
        self.disks
            .iter()
            .map(|d| match d.provisioning {
                Provisioning::Thick => d.size,
                Provisioning::Thin => d.size.per_mille(100),
            })
            .sum()
    }
    /// What isn't kept needs swap room on the volume while it runs.
    pub fn swap(&self) -> Bytes {
        self.memory.size.less(self.memory.kept)
    }
    pub fn recoverable_until(&self) -> Option<Moment> {
        self.deleted
            .map(|at| at.plus(crate::moment::Span::days(Self::KEPT_DAYS)))
    }
}
