//! What a run will do: steps with what they wait for and what they take, and the gate before it.

use crate::{
    estate::{Estate, Provisioning},
    event::Event,
    finding::Finding,
    ids::{
        ArrayId, ClusterId, HostId, ImageId, MachineId, NetworkId, Revision, RunId, SecretRef,
        SwitchId, VolumeId,
    },
    migration::Course,
    moment::Span,
    proposal::{AfterGrace, Proposal, Set},
    units::{Bytes, Rate},
};
use serde::{Deserialize, Serialize};
use std::fmt;

/// What a device must do.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Step {
    Claim {
        host: HostId,
        password: SecretRef,
    },
    /// Reads clock and management controller.
    Verify {
        host: HostId,
    },
    Join {
        host: HostId,
        cluster: ClusterId,
        /// A volume to mount on the way.
        volume: Option<String>,
    },
    /// Sign in on every management address and read what there is.
    ReadArray {
        array: ArrayId,
    },
    MakeLun {
        array: ArrayId,
        volume: VolumeId,
        pool: String,
        size: Bytes,
        provisioning: Provisioning,
    },
    GrowLun {
        array: ArrayId,
        volume: VolumeId,
        size: Bytes,
    },
    /// Let the host's initiator reach the volume.
    Map {
        array: ArrayId,
        volume: VolumeId,
        host: HostId,
    },
    Unmap {
        array: ArrayId,
        volume: VolumeId,
        host: HostId,
    },
    LogIn {
        array: ArrayId,
        host: HostId,
    },
    /// Format it if it is empty, take it if it is ours or nobody's; else refuse with what was found.
    Prepare {
        volume: VolumeId,
        host: HostId,
        /// The installation that it may be taken from.
        over: Option<String>,
    },
    Mount {
        volume: VolumeId,
        host: HostId,
    },
    Unmount {
        volume: VolumeId,
        host: HostId,
    },
    /// Let its format fill what the array gave.
    Fill {
        volume: VolumeId,
        host: HostId,
    },
    Disown {
        volume: VolumeId,
        host: HostId,
    },
    /// Hold room for it on its volume.
    MakeImage {
        image: ImageId,
    },
    /// Somebody sends its bytes.
    AwaitImage {
        image: ImageId,
        size: Bytes,
    },
    /// Checksum and label of what arrived.
    SealImage {
        image: ImageId,
    },
    DropImage {
        image: ImageId,
    },
    /// Sign in on the switch and read its ports.
    ReadSwitch {
        switch: SwitchId,
    },
    SetNetwork {
        network: NetworkId,
        host: HostId,
    },
    DropNetwork {
        network: NetworkId,
        host: HostId,
    },
    /// No device: every host has it.
    NetworkReady {
        network: NetworkId,
    },
    /// No device: nobody has it any more.
    NetworkGone {
        network: NetworkId,
    },
    /// No device: every host has it.
    VolumeReady {
        volume: VolumeId,
    },
    /// No device: nobody has it any more.
    VolumeGone {
        volume: VolumeId,
    },
    Leave {
        host: HostId,
    },
    Release {
        host: HostId,
    },
    /// No device: the cluster is complete.
    ClusterReady {
        cluster: ClusterId,
    },
    Create {
        machine: MachineId,
        via: HostId,
    },
    Start {
        machine: MachineId,
        host: HostId,
    },
    AwaitGuest {
        machine: MachineId,
        limit: Span,
    },
    /// While it runs; the run lease is switched from one host to the other.
    /// Copies a machine's record and disks to another volume, and lets it go on from there.
    MoveDisks {
        machine: MachineId,
        via: HostId,
        from: VolumeId,
        to: VolumeId,
        bytes: Bytes,
        /// How long it was computed to take.
        time: Span,
    },
    Move {
        machine: MachineId,
        from: HostId,
        to: HostId,
        line: Line,
        foretold: Box<Course>,
    },
    AskStop {
        machine: MachineId,
    },
    AwaitOff {
        machine: MachineId,
        grace: Span,
        then: AfterGrace,
    },
    Off {
        machine: MachineId,
    },
    Rewrite {
        machine: MachineId,
        via: HostId,
        sets: Vec<Set>,
    },
    Delete {
        machine: MachineId,
        via: HostId,
    },
    Recover {
        machine: MachineId,
        via: HostId,
    },
    Purge {
        machine: MachineId,
        via: HostId,
    },
}

/// How a machine is moved.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Line {
    pub network: String,
    pub bandwidth: Rate,
    /// For the rest, without what stands still in any case.
    pub target: Span,
    pub slow: bool,
    pub force: bool,
}

impl Step {
    /// What it does, as a group in the plan's picture.
    pub fn group(&self) -> &'static str {
        match self {
            Step::Claim { .. } => "claim, swap the password for a key",
            Step::Verify { .. } => "check clock and controller",
            Step::Join {
                volume: Some(_), ..
            } => "mount the volume, join",
            Step::Join { .. } => "join",
            Step::ReadArray { .. } => "sign in, read pools and portals",
            Step::MakeLun { .. } => "make the LUN",
            Step::GrowLun { .. } => "extend the LUN",
            Step::Map { .. } => "let the host reach it",
            Step::Unmap { .. } => "take the host's reach away",
            Step::LogIn { .. } => "log in on all portals",
            Step::Prepare { .. } => "format if empty, else take",
            Step::Mount { .. } => "mount, verify the paths",
            Step::Unmount { .. } => "unmount",
            Step::Fill { .. } => "grow the format",
            Step::Disown { .. } => "clear the owner",
            Step::MakeImage { .. } => "hold room on the volume",
            Step::AwaitImage { .. } => "receive the file",
            Step::SealImage { .. } => "checksum and label",
            Step::DropImage { .. } => "remove the file",
            Step::ReadSwitch { .. } => "sign in, read the ports",
            Step::SetNetwork { .. } => "set it up on the uplinks",
            Step::DropNetwork { .. } => "take it off the uplinks",
            Step::NetworkReady { .. } => "open the network",
            Step::NetworkGone { .. } => "forget the network",
            Step::VolumeReady { .. } => "open the volume",
            Step::VolumeGone { .. } => "forget the volume",
            Step::Leave { .. } => "leave the cluster",
            Step::Release { .. } => "give up the host",
            Step::ClusterReady { .. } => "open the cluster",
            Step::Create { .. } => "create disks and record",
            Step::Start { .. } => "power on",
            Step::AwaitGuest { .. } => "guest answers",
            Step::Move { .. } => "move while it runs",
            Step::MoveDisks { .. } => "copy its disks, go on from there",
            Step::AskStop { .. } => "ask the guest to stop",
            Step::AwaitOff { .. } => "wait until it is off",
            Step::Off { .. } => "power off",
            Step::Rewrite { .. } => "write the record",
            Step::Delete { .. } => "delete, keep recoverable",
            Step::Recover { .. } => "bring back",
            Step::Purge { .. } => "remove for good",
        }
    }
    /// How long it usually takes; an estimate for the plan's time line.
    pub fn usual(&self) -> Span {
        match self {
            Step::Claim { .. } | Step::Join { .. } => Span::secs(2),
            Step::Create { .. } => Span::secs(3),
            Step::AwaitGuest { .. } => Span::secs(20),
            // As fast as a good line of a gigabit sends it through two hands.
            Step::AwaitImage { size, .. } => Span::millis(size.0 / 50_000),
            Step::AwaitOff { .. } => Span::secs(8),
            Step::Move { foretold, .. } => foretold.time(),
            Step::MoveDisks { time, .. } => *time,
            Step::ClusterReady { .. }
            | Step::VolumeReady { .. }
            | Step::VolumeGone { .. }
            | Step::NetworkReady { .. }
            | Step::NetworkGone { .. } => Span(0),
            _ => Span::secs(1),
        }
    }
    /// How long until what takes longer is looked at again.
    pub fn pause(&self) -> Span {
        match self {
            // A person sends it, perhaps for hours; the page that sends it knows more anyway.
            Step::AwaitImage { .. } => Span::secs(1),
            _ => Span::millis(300),
        }
    }
    pub fn machine(&self) -> Option<MachineId> {
        match self {
            Step::Create { machine, .. }
            | Step::Start { machine, .. }
            | Step::AwaitGuest { machine, .. }
            | Step::Move { machine, .. }
            | Step::MoveDisks { machine, .. }
            | Step::AskStop { machine }
            | Step::AwaitOff { machine, .. }
            | Step::Off { machine }
            | Step::Rewrite { machine, .. }
            | Step::Delete { machine, .. }
            | Step::Recover { machine, .. }
            | Step::Purge { machine, .. } => Some(*machine),
            _ => None,
        }
    }
    pub fn host(&self) -> Option<HostId> {
        match self {
            Step::Claim { host, .. }
            | Step::Verify { host }
            | Step::Join { host, .. }
            | Step::Leave { host }
            | Step::Release { host }
            | Step::SetNetwork { host, .. }
            | Step::DropNetwork { host, .. }
            | Step::Map { host, .. }
            | Step::Unmap { host, .. }
            | Step::LogIn { host, .. }
            | Step::Prepare { host, .. }
            | Step::Mount { host, .. }
            | Step::Unmount { host, .. }
            | Step::Fill { host, .. }
            | Step::Disown { host, .. }
            | Step::Start { host, .. } => Some(*host),
            Step::Move { to, .. } => Some(*to),
            Step::Create { via, .. }
            | Step::MoveDisks { via, .. }
            | Step::Rewrite { via, .. }
            | Step::Delete { via, .. }
            | Step::Recover { via, .. }
            | Step::Purge { via, .. } => Some(*via),
            _ => None,
        }
    }
    /// The array that is spoken to; a step at an array may still be about a host.
    pub fn array(&self) -> Option<ArrayId> {
        match self {
            Step::ReadArray { array }
            | Step::MakeLun { array, .. }
            | Step::GrowLun { array, .. }
            | Step::Map { array, .. }
            | Step::Unmap { array, .. } => Some(*array),
            _ => None,
        }
    }
    pub fn network(&self) -> Option<NetworkId> {
        match self {
            Step::SetNetwork { network, .. }
            | Step::DropNetwork { network, .. }
            | Step::NetworkReady { network }
            | Step::NetworkGone { network } => Some(*network),
            _ => None,
        }
    }
    pub fn volume(&self) -> Option<VolumeId> {
        match self {
            Step::MakeLun { volume, .. }
            | Step::GrowLun { volume, .. }
            | Step::Map { volume, .. }
            | Step::Unmap { volume, .. }
            | Step::Prepare { volume, .. }
            | Step::Mount { volume, .. }
            | Step::Unmount { volume, .. }
            | Step::Fill { volume, .. }
            | Step::Disown { volume, .. }
            | Step::VolumeReady { volume }
            | Step::VolumeGone { volume } => Some(*volume),
            _ => None,
        }
    }
    pub fn image(&self) -> Option<ImageId> {
        match self {
            Step::MakeImage { image }
            | Step::AwaitImage { image, .. }
            | Step::SealImage { image }
            | Step::DropImage { image } => Some(*image),
            _ => None,
        }
    }
    /// A step without a device, recorded at once.
    pub fn is_record(&self) -> bool {
        matches!(
            self,
            Step::ClusterReady { .. }
                | Step::VolumeReady { .. }
                | Step::VolumeGone { .. }
                | Step::NetworkReady { .. }
                | Step::NetworkGone { .. }
        )
    }
    /// Where the device speaks: the host named by the step, the one that the machine is on, or one that mounts the
    /// image's volume.
    pub fn spoken_to(&self, estate: &Estate) -> Option<HostId> {
        self.host()
            .or_else(|| estate.machines.get(&self.machine()?)?.host)
            .or_else(|| {
                let image = estate.images.get(&self.image()?)?;
                estate.reach(image.volume).map(|h| h.id)
            })
    }
    /// What it takes for the time it changes something.
    pub fn locks(&self) -> Vec<Lock> {
        match self {
            Step::Claim { host, .. } | Step::Release { host } | Step::Leave { host } => {
                vec![Lock::exclusive(Object::Host(*host))]
            }
            Step::Join { host, cluster, .. } => {
                vec![
                    Lock::exclusive(Object::Host(*host)),
                    Lock::shared(Object::Cluster(*cluster)),
                ]
            }
            Step::Verify { host } => vec![Lock::shared(Object::Host(*host))],
            Step::ClusterReady { cluster } => vec![Lock::exclusive(Object::Cluster(*cluster))],
            Step::AwaitGuest { .. } | Step::AwaitImage { .. } => vec![],
            Step::MakeImage { image } | Step::SealImage { image } | Step::DropImage { image } => {
                vec![Lock::exclusive(Object::Image(*image))]
            }
            Step::ReadSwitch { switch } => vec![Lock::exclusive(Object::Switch(*switch))],
            Step::SetNetwork { network, host } | Step::DropNetwork { network, host } => vec![
                Lock::shared(Object::Network(*network)),
                Lock::shared(Object::Host(*host)),
            ],
            Step::NetworkReady { network } | Step::NetworkGone { network } => {
                vec![Lock::exclusive(Object::Network(*network))]
            }
            Step::Move {
                machine, from, to, ..
            } => vec![
                Lock::exclusive(Object::Machine(*machine)),
                Lock::shared(Object::Host(*from)),
                Lock::shared(Object::Host(*to)),
            ],
            Step::MoveDisks {
                machine,
                via,
                from,
                to,
                ..
            } => vec![
                Lock::exclusive(Object::Machine(*machine)),
                Lock::shared(Object::Host(*via)),
                Lock::shared(Object::Volume(*from)),
                Lock::shared(Object::Volume(*to)),
            ],
            Step::ReadArray { array } => vec![Lock::exclusive(Object::Array(*array))],
            Step::MakeLun { volume, array, .. } | Step::GrowLun { volume, array, .. } => vec![
                Lock::exclusive(Object::Volume(*volume)),
                Lock::shared(Object::Array(*array)),
            ],
            // Hosts are connected side by side; what changes the volume itself waits for none of them.
            Step::Map { volume, host, .. }
            | Step::Unmap { volume, host, .. }
            | Step::Mount { volume, host }
            | Step::Unmount { volume, host } => vec![
                Lock::shared(Object::Volume(*volume)),
                Lock::shared(Object::Host(*host)),
            ],
            Step::LogIn { host, .. } => vec![Lock::shared(Object::Host(*host))],
            Step::Prepare { volume, host, .. }
            | Step::Fill { volume, host }
            | Step::Disown { volume, host } => vec![
                Lock::exclusive(Object::Volume(*volume)),
                Lock::shared(Object::Host(*host)),
            ],
            Step::VolumeReady { volume } | Step::VolumeGone { volume } => {
                vec![Lock::exclusive(Object::Volume(*volume))]
            }
            _ => self
                .machine()
                .map(|m| Lock::exclusive(Object::Machine(m)))
                .into_iter()
                .chain(self.host().map(|h| Lock::shared(Object::Host(h))))
                .collect(),
        }
    }
}

/// Something that a step can take.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Object {
    Host(HostId),
    Cluster(ClusterId),
    Machine(MachineId),
    Volume(VolumeId),
    Array(ArrayId),
    Network(NetworkId),
    Switch(SwitchId),
    Image(ImageId),
}

impl Object {
    /// What people call it.
    pub fn name(self, estate: &Estate) -> String {
        match self {
            Object::Host(id) => estate.hosts.get(&id).map(|h| h.name.clone()),
            Object::Cluster(id) => estate.clusters.get(&id).map(|c| c.name.clone()),
            Object::Machine(id) => estate.machines.get(&id).map(|m| m.name.clone()),
            Object::Volume(id) => estate.volumes.get(&id).map(|v| v.name.clone()),
            Object::Array(id) => estate.arrays.get(&id).map(|a| a.name.clone()),
            Object::Network(id) => estate.networks.get(&id).map(|n| n.name.clone()),
            Object::Switch(id) => estate.switches.get(&id).map(|s| s.name.clone()),
            Object::Image(id) => estate.images.get(&id).map(|i| i.name.clone()),
        }
        .unwrap_or_else(|| self.to_string())
    }
}

impl fmt::Display for Object {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Object::Host(id) => id.fmt(f),
            Object::Cluster(id) => id.fmt(f),
            Object::Machine(id) => id.fmt(f),
            Object::Volume(id) => id.fmt(f),
            Object::Array(id) => id.fmt(f),
            Object::Network(id) => id.fmt(f),
            Object::Switch(id) => id.fmt(f),
            Object::Image(id) => id.fmt(f),
        }
    }
}

/// Shared: something is placed on it. Exclusive: it is changed or emptied.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Lock {
    pub object: Object,
    pub exclusive: bool,
}

impl Lock {
    pub fn exclusive(object: Object) -> Self {
        Lock {
            object,
            exclusive: true,
        }
    }
    pub fn shared(object: Object) -> Self {
        Lock {
            object,
            exclusive: false,
        }
    }
    pub fn clashes(&self, other: &Lock) -> bool {
        self.object == other.object && (self.exclusive || other.exclusive)
    }
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct PlannedStep {
    pub step: Step,
    pub title: String,
    /// Steps that must be done before.
    pub after: Vec<usize>,
    /// The sheet's field that its failure usually comes from.
    pub field: Option<String>,
}

/// Where a machine goes, with what that does to the host.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Place {
    pub machine: String,
    pub host: HostId,
    pub host_name: String,
}

/// A host's held memory before and after.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Fill {
    pub host: HostId,
    pub name: String,
    pub before: Bytes,
    pub after: Bytes,
    pub installed: Bytes,
}

/// A plan as a run carries it: written once.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Plan {
    pub run: RunId,
    pub ask: Proposal,
    pub revision: Revision,
    pub findings: Vec<Finding>,
    pub places: Vec<Place>,
    pub fills: Vec<Fill>,
    pub steps: Vec<PlannedStep>,
    pub time: Span,
}

/// One bar of the plan's picture: all steps of a kind.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Bar {
    pub group: &'static str,
    pub from: Span,
    pub to: Span,
    pub steps: usize,
}

/// When each step could begin and end, if all that may run at the same time does.
pub fn schedule(steps: &[PlannedStep]) -> Vec<(Span, Span)> {
    let mut times: Vec<(Span, Span)> = Vec::with_capacity(steps.len());
    for step in steps {
        let from = step
            .after
            .iter()
            .filter_map(|i| times.get(*i))
            .map(|t| t.1)
            .max()
            .unwrap_or_default();
        times.push((from, from.plus(step.step.usual())));
    }
    times
}

/// The steps by kind, in the order in which they begin.
pub fn bars(steps: &[PlannedStep]) -> Vec<Bar> {
    let mut bars: Vec<Bar> = Vec::new();
    for (step, (from, to)) in steps.iter().zip(schedule(steps)) {
        match bars.iter_mut().find(|b| b.group == step.step.group()) {
            Some(bar) => {
                bar.from = bar.from.min(from);
                bar.to = bar.to.max(to);
                bar.steps += 1;
            }
            None => bars.push(Bar {
                group: step.step.group(),
                from,
                to,
                steps: 1,
            }),
        }
    }
    bars.sort_by_key(|b| (b.from, b.to));
    bars
}

/// A plan that passed the gate. Only [`crate::assess::Assessment::accept`] makes one.
#[derive(Debug, Clone)]
pub struct AcceptedPlan {
    pub(crate) title: String,
    pub(crate) intents: Vec<Event>,
    pub(crate) plan: Plan,
}
