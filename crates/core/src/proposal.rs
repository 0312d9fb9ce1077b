//! What somebody wishes, unchecked.

use crate::{
    estate::{
        ArrayKind, Attached, BootFrom, Cluster, ClusterKind, Demand, Estate, Host, Image, Machine,
        Memory, NetRole, Network, PlaceRule, Provisioning, PsabiLevel, Reservation, Subnet, Volume,
    },
    ids::{ArrayId, ClusterId, HostId, ImageId, MachineId, NetworkId, SecretRef, VolumeId},
    moment::Span,
    permits::Act,
    units::Bytes,
};
use serde::{Deserialize, Serialize};
use std::{
    collections::{BTreeMap, BTreeSet},
    fmt,
    net::IpAddr,
};

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Proposal {
    ClaimHosts(ClaimHosts),
    HandBack {
        hosts: Vec<HostId>,
    },
    CreateCluster(CreateCluster),
    CreateMachines(CreateMachines),
    ConnectArray(ConnectArray),
    ConnectVolume(ConnectVolume),
    /// Bring every intended host back to all paths.
    HealVolume {
        volume: VolumeId,
    },
    ExtendVolume {
        volume: VolumeId,
        size: Bytes,
    },
    AddImage(AddImage),
    RemoveImage {
        image: ImageId,
    },
    ConnectSwitch(ConnectSwitch),
    CreateNetwork(CreateNetwork),
    /// Set it up again on every host that has it otherwise or not at all.
    HealNetwork {
        network: NetworkId,
    },
    RemoveNetwork {
        network: NetworkId,
    },
    /// Unmount it everywhere and clear its owner.
    GiveVolume {
        volume: VolumeId,
    },
    /// To other hosts, while they run.
    Move(Move),
    Power {
        machines: Vec<MachineId>,
        act: PowerAct,
    },
    Edit {
        targets: Vec<Target>,
        sets: Vec<Set>,
    },
    /// Each host by its own sets, as they stand in a list.
    EditHosts(Vec<(HostId, Vec<Set>)>),
    Delete {
        machines: Vec<MachineId>,
    },
    Recover {
        machines: Vec<MachineId>,
    },
    /// `typed` is the name (or the number of machines) that the person typed to confirm.
    Purge {
        machines: Vec<MachineId>,
        typed: String,
    },
}

/// An array or filer to connect: all its management addresses, with the certificates that were shown.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ConnectArray {
    pub controllers: Vec<ClaimTarget>,
    pub kind: ArrayKind,
    pub site: String,
    pub user: String,
    pub password: Password,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Move {
    pub machines: Vec<MachineId>,
    /// None: the best for each, with reasons.
    pub to: Option<HostId>,
    /// Their disks go to another volume too, or alone.
    #[serde(default)]
    pub disks: Option<DisksTo>,
    /// The guest may be slowed so that it converges.
    pub slow: bool,
    /// Also if it doesn't converge, with the longer downtime.
    pub force: bool,
}

/// Where disks go.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct DisksTo {
    pub volume: VolumeId,
    /// The machines themselves stay on their hosts.
    pub stay: bool,
}

/// A file that a person is about to send.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct AddImage {
    pub name: String,
    pub volume: Option<VolumeId>,
    /// Zero while no file is chosen.
    pub size: Bytes,
    pub mark: String,
    /// The label in the file's own descriptor, or why it has none.
    pub label: Result<String, String>,
    /// The SHA-256 that its publisher names; empty for none.
    pub expected: String,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ConnectSwitch {
    pub target: ClaimTarget,
    pub site: String,
    pub user: String,
    pub password: Password,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct CreateNetwork {
    pub name: String,
    pub cluster: Option<ClusterId>,
    pub role: NetRole,
    /// None: untagged.
    pub vlan: Option<u16>,
    pub mtu: u32,
    pub subnets: Vec<Subnet>,
    pub uplinks: BTreeSet<String>,
}

/// A network card of a new machine.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct NewNic {
    pub network: Option<NetworkId>,
    /// None: the next free one, where the network has addresses for guests.
    pub address: Option<IpAddr>,
}

/// Where a volume comes from.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum VolumeSource {
    New {
        pool: String,
        size: Bytes,
        provisioning: Provisioning,
    },
    /// One that the array has already, by the array's own number.
    Existing { lun: String },
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ConnectVolume {
    pub array: Option<ArrayId>,
    pub source: VolumeSource,
    pub name: String,
    pub cluster: Option<ClusterId>,
    /// None: all hosts of the cluster.
    pub hosts: Option<BTreeSet<HostId>>,
    /// Its name, typed, to take it over from an owner that is gone.
    pub typed: String,
}

/// A host to claim, with the certificate that the person was shown.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ClaimTarget {
    pub address: String,
    pub pin: String,
}

/// Whether the first password was given, and where it is kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Password {
    Missing,
    /// Typed in the sheet, not kept yet.
    Typed,
    Kept(SecretRef),
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ClaimHosts {
    pub targets: Vec<ClaimTarget>,
    /// An existing site, or the name of a new one.
    pub site: String,
    pub password: Password,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct CreateCluster {
    pub name: String,
    pub hosts: Vec<HostId>,
    /// None: the highest that all hosts have.
    pub level: Option<PsabiLevel>,
    /// The identity of the volume; None: the one that all hosts see.
    pub volume: Option<String>,
    pub demand: Demand,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct NewDisk {
    pub size: Bytes,
    pub provisioning: Provisioning,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct CreateMachines {
    /// A name, with `{01}` for a running number.
    pub pattern: String,
    pub count: u32,
    pub cluster: Option<ClusterId>,
    /// None: the best, with reasons.
    pub volume: Option<VolumeId>,
    /// None: the best, with reasons.
    pub host: Option<HostId>,
    pub vcpus: u32,
    pub memory: Memory,
    pub disks: Vec<NewDisk>,
    pub nics: Vec<NewNic>,
    /// An image in the drive.
    #[serde(default)]
    pub image: Option<ImageId>,
    /// What the first boot is from; none for the usual order.
    #[serde(default)]
    pub first_boot: Option<BootFrom>,
    pub labels: BTreeMap<String, String>,
    pub tier: u8,
    pub protected: bool,
    /// Keep these machines on different hosts.
    pub apart: bool,
    pub note: String,
    /// Power on when made.
    pub start: bool,
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
    Name(String),
    Note(String),
    Label {
        key: String,
        value: String,
    },
    Unlabel {
        key: String,
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
    Memory(Memory),
    Demand(Demand),
    /// The hosts that shall mount a volume; none: all of the cluster.
    Intended(Option<BTreeSet<HostId>>),
    /// The image in a machine's drive.
    Attach(Option<Attached>),
    BootOrder(Vec<BootFrom>),
    /// Before all others, at the next power-on only.
    BootOnce(Option<BootFrom>),
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
        matches!(self, Set::VCpus(_) | Set::Memory(_))
    }
    pub fn on_machine(&self, m: &mut Machine) {
        match self {
            Set::Name(name) => m.name.clone_from(name),
            Set::Note(note) => m.note.clone_from(note),
            Set::Label { key, value } => drop(m.labels.insert(key.clone(), value.clone())),
            Set::Unlabel { key } => drop(m.labels.remove(key)),
            Set::Tier(tier) => m.tier = *tier,
            Set::Protected(yes) => m.protected = *yes,
            Set::Restarts(yes) => m.restarts = *yes,
            Set::After(other) => m.after = *other,
            Set::VCpus(n) => m.vcpus = *n,
            Set::Memory(memory) => m.memory = *memory,
            Set::Attach(attached) => m.boot.attached = *attached,
            Set::BootOrder(order) => m.boot.order.clone_from(order),
            Set::BootOnce(once) => m.boot.once = *once,
            Set::Demand(_) | Set::Intended(_) | Set::Reserved(_) | Set::Rules(_) | Set::Kind(_) => {
            }
        }
    }
    pub fn on_host(&self, h: &mut Host) {
        match self {
            Set::Name(name) => h.name.clone_from(name),
            Set::Note(note) => h.note.clone_from(note),
            Set::Label { key, value } => drop(h.labels.insert(key.clone(), value.clone())),
            Set::Unlabel { key } => drop(h.labels.remove(key)),
            _ => {}
        }
    }
    pub fn on_cluster(&self, c: &mut Cluster) {
        match self {
            Set::Name(name) => c.name.clone_from(name),
            Set::Note(note) => c.note.clone_from(note),
            Set::Demand(demand) => c.demand = *demand,
            Set::Rules(rules) => c.rules.clone_from(rules),
            Set::Kind(kind) => c.kind = *kind,
            _ => {}
        }
    }
    pub fn on_volume(&self, v: &mut Volume) {
        match self {
            Set::Name(name) => v.name.clone_from(name),
            Set::Note(note) => v.note.clone_from(note),
            Set::Intended(hosts) => v.intended.clone_from(hosts),
            _ => {}
        }
    }
    pub fn on_network(&self, n: &mut Network) {
        match self {
            Set::Note(note) => n.note.clone_from(note),
            Set::Reserved(all) => n.reserved.clone_from(all),
            _ => {}
        }
    }
    pub fn on_image(&self, i: &mut Image) {
        if let Set::Name(name) = self {
            i.name.clone_from(name);
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
            Set::Restarts(true) => "restarted elsewhere when its host fails".into(),
            Set::Restarts(false) => "no longer restarted elsewhere".into(),
            Set::After(None) => "boots without waiting for another".into(),
            Set::After(Some(_)) => "boots after another machine".into(),
            Set::Rules(rules) => match rules.len() {
                1 => "one rule for where machines may be".into(),
                n => format!("{n} rules for where machines may be"),
            },
            Set::Kind(kind) => {
                format!("an {} cluster", kind.word()).replace("an stretched", "a stretched")
            }
            Set::VCpus(n) => format!("{n} vCPUs"),
            Set::Memory(m) => format!("memory {} ({} always kept)", m.size, m.kept),
            Set::Attach(None) => "the image is taken out of its drive".into(),
            Set::Attach(Some(_)) => "an image is put into its drive".into(),
            Set::BootOrder(order) => {
                let words: Vec<_> = order.iter().map(|b| b.word()).collect();
                format!("boots from {}", words.join(", then "))
            }
            Set::BootOnce(None) => "boots as ordered".into(),
            Set::BootOnce(Some(from)) => format!("boots once from its {from}"),
            Set::Reserved(all) => format!("{} addresses are kept", all.len()),
            Set::Intended(None) => "all hosts of the cluster shall mount it".into(),
            Set::Intended(Some(hosts)) => format!("{} hosts shall mount it", hosts.len()),
            Set::Demand(d) if d.enforced => format!("must survive {} host failures", d.failures),
            Set::Demand(d) => format!("should survive {} host failures", d.failures),
        }
    }
}

impl Proposal {
    /// What somebody must be allowed to do, to do this.
    pub fn act(&self) -> Act {
        match self {
            Proposal::ClaimHosts(_) | Proposal::HandBack { .. } | Proposal::EditHosts(_) => {
                Act::Hosts
            }
            Proposal::CreateCluster(_) => Act::Clusters,
            Proposal::ConnectArray(_)
            | Proposal::ConnectVolume(_)
            | Proposal::HealVolume { .. }
            | Proposal::ExtendVolume { .. }
            | Proposal::GiveVolume { .. }
            | Proposal::AddImage(_)
            | Proposal::RemoveImage { .. }
            | Proposal::ConnectSwitch(_)
            | Proposal::CreateNetwork(_)
            | Proposal::HealNetwork { .. }
            | Proposal::RemoveNetwork { .. } => Act::Storage,
            Proposal::Purge { .. } => Act::Purge,
            Proposal::Edit { targets, .. } => match targets.first() {
                Some(Target::Host(_)) => Act::Hosts,
                Some(Target::Cluster(_)) => Act::Clusters,
                Some(Target::Volume(_) | Target::Network(_) | Target::Image(_)) => Act::Storage,
                _ => Act::Machines,
            },
            _ => Act::Machines,
        }
    }
}
