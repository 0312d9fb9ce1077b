//! Plain edits: one proposal for names, notes, labels, tiers and sizes, of anything.

use super::{Step, assess};
use crate::{
    text::{Line, Note},
    endpoint::Password,
    permits::Act,
    road::{Ask as Asked, Draft},
    estate::{
        Attached, BootFrom, Cluster, ClusterKind, Demand, Estate, Host, Image, Machine, Memory,
        Network, PlaceRule, Reservation, Volume,
    },
    ids::{ClusterId, HostId, ImageId, MachineId, NetworkId, VolumeId},
    units::Bytes,
};
use serde::{Deserialize, Serialize};
use std::{
    collections::{BTreeMap, BTreeSet},
    fmt,
    net::IpAddr,
};
use uuid::Uuid;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ask {
    Edit {
        targets: Vec<Target>,
        sets: Vec<Set>,
    },
    /// Each host by its own sets, as they stand in a list.
    Hosts(Vec<(HostId, Vec<Set>)>),
    /// What waits for the next start of these machines is taken back.
    Withdraw { machines: Vec<MachineId> },
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        match self {
            Ask::Edit { targets, .. } => targets.iter().map(|t| t.act()).collect(),
            Ask::Hosts(_) => BTreeSet::from([Act::Hosts]),
            Ask::Withdraw { .. } => BTreeSet::from([Act::Machines]),
        }
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        match self {
            Ask::Edit { targets, sets } => assess::edit(draft, targets, sets),
            Ask::Hosts(edits) => assess::hosts(draft, edits),
            Ask::Withdraw { machines } => assess::withdraw(draft, machines),
        }
    }

    fn password(&mut self) -> Option<&mut Password> {
        None
    }
}

/// What an edit is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Target {
    Machine(MachineId),
    Host(HostId),
    Cluster(ClusterId),
    Volume(VolumeId),
    Network(NetworkId),
    Image(ImageId),
}

impl Target {
    /// What somebody must be allowed to do, to edit it.
    pub fn act(self) -> Act {
        match self {
            Target::Machine(_) => Act::Machines,
            Target::Host(_) => Act::Hosts,
            Target::Cluster(_) => Act::Clusters,
            Target::Volume(_) | Target::Network(_) | Target::Image(_) => Act::Storage,
        }
    }
    pub fn name(self, estate: &Estate) -> String {
        match self {
            Target::Machine(id) => estate.machines.get(&id).map(|m| m.name.clone()),
            Target::Host(id) => estate.hosts.get(&id).map(|h| h.name.clone()),
            Target::Cluster(id) => estate.clusters.get(&id).map(|c| c.name.clone()),
            Target::Volume(id) => estate.volumes.get(&id).map(|v| v.name.clone()),
            Target::Network(id) => estate.networks.get(&id).map(|n| n.name.clone()),
            Target::Image(id) => estate.images.get(&id).map(|i| i.name.clone()),
        }
        .unwrap_or_else(|| self.to_string())
    }
}

impl fmt::Display for Target {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Target::Machine(id) => id.fmt(f),
            Target::Host(id) => id.fmt(f),
            Target::Cluster(id) => id.fmt(f),
            Target::Volume(id) => id.fmt(f),
            Target::Network(id) => id.fmt(f),
            Target::Image(id) => id.fmt(f),
        }
    }
}

/// One changed field.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Set {
    Name(Line),
    Note(Note),
    Label {
        key: Line,
        value: Line,
    },
    Unlabel {
        key: Line,
    },
    Tier(u8),
    Protected(bool),
    /// Started elsewhere when its host fails, or not.
    Restarts(bool),
    /// It boots once this machine answers.
    After(Option<MachineId>),
    /// Replaces all rules of a cluster.
    Rules(Vec<PlaceRule>),
    Kind(ClusterKind),
    VCpus(u32),
    /// What it can be given while it runs.
    VCpusMax(u32),
    Memory(Memory),
    /// One of its disks, by its place among them, is larger from now on.
    DiskSize {
        disk: usize,
        /// Its own identity, where it was known.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        key: Option<Uuid>,
        size: Bytes,
    },
    Demand(Demand),
    /// Machines of a cluster's failed hosts are started elsewhere by themselves.
    Recovers(bool),
    /// The hosts that shall mount a volume; none: all of the cluster.
    Intended(Option<BTreeSet<HostId>>),
    /// The image in a machine's drive.
    Attach(Option<Attached>),
    BootOrder(Vec<BootFrom>),
    /// Before all others, at the next power-on only.
    BootOnce(Option<BootFrom>),
    /// An image carries the agent and the drivers of guests, or not.
    CarriesAgent(bool),
    /// Addresses kept for what is no machine of ours; replaces all of them.
    Reserved(BTreeMap<IpAddr, Reservation>),
}

impl Set {
    /// Whether the machine's host must be told, not only our own record.
    pub fn reaches_device(&self) -> bool {
        matches!(
            self,
            Set::Name(_)
                | Set::VCpus(_)
                | Set::VCpusMax(_)
                | Set::DiskSize { .. }
                | Set::Memory(_)
                | Set::Attach(_)
                | Set::BootOrder(_)
                | Set::BootOnce(_)
        )
    }
    /// Whether it is about what a machine boots from.
    pub fn boots(&self) -> bool {
        matches!(self, Set::Attach(_) | Set::BootOrder(_) | Set::BootOnce(_))
    }
    pub fn changes_hardware(&self) -> bool {
        matches!(self, Set::VCpus(_) | Set::VCpusMax(_) | Set::Memory(_))
    }
    pub fn on_machine(&self, m: &mut Machine) {
        match self {
            Set::Name(name) => {
                m.name = name.into();
                m.found_as = None;
            }
            Set::Note(note) => m.note = note.into(),
            Set::Label { key, value } => drop(m.labels.insert(key.into(), value.into())),
            Set::Unlabel { key } => drop(m.labels.remove(key.as_str())),
            Set::Tier(tier) => m.tier = *tier,
            Set::Protected(yes) => m.protected = *yes,
            Set::Restarts(yes) => m.restarts = *yes,
            Set::After(other) => m.after = *other,
            Set::VCpus(n) => m.resize(|m| {
                m.vcpus = *n;
                // Whoever has more may have more.
                m.vcpus_max = m.vcpus_max.max(*n);
            }),
            Set::VCpusMax(n) => m.resize(|m| m.vcpus_max = *n),
            Set::Memory(memory) => m.resize(|m| m.memory = *memory),
            Set::DiskSize { disk, size, .. } => {
                if let Some(disk) = m.disks.get_mut(*disk) {
                    disk.size = *size;
                }
            }
            Set::Attach(attached) => m.boot.attached = *attached,
            Set::BootOrder(order) => m.boot.order.clone_from(order),
            Set::BootOnce(once) => m.boot.once = *once,
            Set::Demand(_) | Set::Recovers(_) | Set::Intended(_) | Set::Reserved(_) | Set::Rules(_) | Set::Kind(_) | Set::CarriesAgent(_) => {}
        }
    }
    pub fn on_host(&self, h: &mut Host) {
        match self {
            Set::Name(name) => h.name = name.into(),
            Set::Note(note) => h.note = note.into(),
            Set::Label { key, value } => drop(h.labels.insert(key.into(), value.into())),
            Set::Unlabel { key } => drop(h.labels.remove(key.as_str())),
            Set::Tier(_) | Set::Protected(_) | Set::Restarts(_) | Set::After(_) | Set::Rules(_) | Set::Kind(_) | Set::VCpus(_) | Set::VCpusMax(_) | Set::DiskSize { .. } | Set::Memory(_) | Set::Demand(_) | Set::Recovers(_) | Set::Intended(_) | Set::Attach(_) | Set::BootOrder(_) | Set::BootOnce(_) | Set::CarriesAgent(_) | Set::Reserved(_) => {}
        }
    }
    pub fn on_cluster(&self, c: &mut Cluster) {
        match self {
            Set::Name(name) => c.name = name.into(),
            Set::Note(note) => c.note = note.into(),
            Set::Demand(demand) => c.demand = *demand,
            Set::Recovers(yes) => c.recovers = *yes,
            Set::Rules(rules) => c.rules.clone_from(rules),
            Set::Kind(kind) => c.kind = *kind,
            Set::Label { .. } | Set::Unlabel { .. } | Set::Tier(_) | Set::Protected(_) | Set::Restarts(_) | Set::After(_) | Set::VCpus(_) | Set::VCpusMax(_) | Set::DiskSize { .. } | Set::Memory(_) | Set::Intended(_) | Set::Attach(_) | Set::BootOrder(_) | Set::BootOnce(_) | Set::CarriesAgent(_) | Set::Reserved(_) => {}
        }
    }
    pub fn on_volume(&self, v: &mut Volume) {
        match self {
            Set::Name(name) => v.name = name.into(),
            Set::Note(note) => v.note = note.into(),
            Set::Intended(hosts) => v.intended.clone_from(hosts),
            Set::Label { .. } | Set::Unlabel { .. } | Set::Tier(_) | Set::Protected(_) | Set::Restarts(_) | Set::After(_) | Set::Rules(_) | Set::Kind(_) | Set::VCpus(_) | Set::VCpusMax(_) | Set::DiskSize { .. } | Set::Memory(_) | Set::Demand(_) | Set::Recovers(_) | Set::Attach(_) | Set::BootOrder(_) | Set::BootOnce(_) | Set::CarriesAgent(_) | Set::Reserved(_) => {}
        }
    }
    pub fn on_network(&self, n: &mut Network) {
        match self {
            Set::Note(note) => n.note = note.into(),
            Set::Reserved(all) => n.reserved.clone_from(all),
            Set::Name(_) | Set::Label { .. } | Set::Unlabel { .. } | Set::Tier(_) | Set::Protected(_) | Set::Restarts(_) | Set::After(_) | Set::Rules(_) | Set::Kind(_) | Set::VCpus(_) | Set::VCpusMax(_) | Set::DiskSize { .. } | Set::Memory(_) | Set::Demand(_) | Set::Recovers(_) | Set::Intended(_) | Set::Attach(_) | Set::BootOrder(_) | Set::BootOnce(_) | Set::CarriesAgent(_) => {}
        }
    }
    pub fn on_image(&self, i: &mut Image) {
        if let Set::Name(name) = self {
            i.name = name.into();
        }
        if let Set::CarriesAgent(yes) = self {
            i.carries_agent = *yes;
        }
    }
    pub fn tell(&self) -> String {
        match self {
            Set::Name(name) => format!("name is now {name}"),
            Set::Note(_) => "note changed".into(),
            Set::Label { key, value } if value.is_empty() => format!("label {key} set"),
            Set::Label { key, value } => format!("label {key}={value} set"),
            Set::Unlabel { key } => format!("label {key} taken away"),
            Set::Tier(tier) => format!("restart tier {tier}"),
            Set::Protected(true) => "protected from deletion".into(),
            Set::Protected(false) => "no longer protected from deletion".into(),
            Set::Restarts(true) => "to be started elsewhere when its host fails".into(),
            Set::Restarts(false) => "to be left off when its host fails".into(),
            Set::After(None) => "boots without waiting for another".into(),
            Set::After(Some(_)) => "boots after another machine".into(),
            Set::Rules(rules) => match rules.len() {
                1 => "one rule for where machines may be".into(),
                n => format!("{n} rules for where machines may be"),
            },
            Set::Kind(kind) => format!("its kind: {}", kind.word()),
            Set::VCpus(n) => format!("{n} vCPUs"),
            Set::VCpusMax(n) => format!("vCPUs may grow to {n}"),
            Set::Memory(m) => format!("memory {} ({} always kept)", m.size, m.kept),
            Set::DiskSize { disk, size, .. } => format!("disk {} has {size}", disk + 1),
            Set::Attach(None) => "the image is taken out of its drive".into(),
            Set::Attach(Some(_)) => "an image is put into its drive".into(),
            Set::BootOrder(order) => {
                let words: Vec<_> = order.iter().map(|b| b.word()).collect();
                format!("boots from {}", words.join(", then "))
            }
            Set::BootOnce(None) => "boots as ordered".into(),
            Set::BootOnce(Some(from)) => format!("boots once from its {from}"),
            Set::Reserved(all) => format!("{} addresses are kept", all.len()),
            Set::CarriesAgent(true) => "it carries the guest agent and drivers".into(),
            Set::CarriesAgent(false) => "it carries no guest agent".into(),
            Set::Intended(None) => "all hosts of the cluster shall mount it".into(),
            Set::Intended(Some(hosts)) => format!("{} hosts shall mount it", hosts.len()),
            Set::Recovers(true) => "machines of a failed host start elsewhere by themselves".into(),
            Set::Recovers(false) => "machines of a failed host wait for a person".into(),
            Set::Demand(d) if d.enforced => format!("must survive {}", d.words()),
            Set::Demand(d) => format!("should survive {}", d.words()),
        }
    }
}
