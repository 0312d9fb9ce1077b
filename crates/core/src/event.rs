//! What happened. Events change the estate through [`crate::estate::Estate::absorb`] and are told in the Logbook.

use crate::{
    estate::{
        Array, ArrayCondition, Backing, Boot, Cluster, Condition, Estate, Host, HostNet, Image,
        Machine, MachineState, Moved, Network, Nic, Path, Site, Switch, Uplink, Volume, Wanted,
    },
    ids::{
        ArrayId, ClusterId, HostId, ImageId, MachineId, NetworkId, NotAnId, RunId, SwitchId,
        VolumeId,
    },
    moment::Moment,
    permits::Act,
    plan::Plan,
    proposal::{Set, Target},
    run::Run,
    units::Bytes,
};
use serde::{Deserialize, Serialize};
use std::{collections::BTreeMap, fmt, net::IpAddr, str::FromStr};

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Event {
    SiteAdded(Site),
    /// Its name and address are held; the claim runs.
    HostClaiming(Box<Host>),
    HostClaimed(Box<Host>),
    HostReleased {
        host: HostId,
    },
    HostCondition {
        host: HostId,
        condition: Condition,
    },
    HostSeen {
        host: HostId,
        boot: u64,
        seq: u64,
        software: String,
    },
    HostJoined {
        host: HostId,
        cluster: ClusterId,
    },
    HostLeft {
        host: HostId,
    },
    ClusterAdded {
        cluster: Box<Cluster>,
        volume: Option<Box<Volume>>,
    },
    ClusterReady {
        cluster: ClusterId,
    },
    ClusterDropped {
        cluster: ClusterId,
    },
    /// Its name and addresses are held; the first reading runs.
    ArrayConnecting(Box<Array>),
    /// Everything that a reading said.
    ArraySeen(Box<Array>),
    ArrayDropped {
        array: ArrayId,
    },
    /// Its name is held; the run that connects it works.
    VolumePlanned(Box<Volume>),
    /// The array has made it.
    VolumeMade {
        volume: VolumeId,
        uid: String,
        backing: Backing,
    },
    VolumeReady {
        volume: VolumeId,
    },
    /// Not connected after all, or handed back.
    VolumeGone {
        volume: VolumeId,
        handed_back: bool,
    },
    /// Its name and room are held; its bytes are awaited.
    ImagePlanned(Box<Image>),
    /// Whole, with the checksum and label of what lies on the volume.
    ImageReady {
        image: ImageId,
        sha256: String,
        label: String,
    },
    /// Found on a volume that was taken.
    ImageAdopted(Box<Image>),
    ImageGone {
        image: ImageId,
    },
    /// Its name is held; the first reading runs.
    SwitchConnecting(Box<Switch>),
    SwitchSeen(Box<Switch>),
    SwitchDropped {
        switch: SwitchId,
    },
    NetworkPlanned(Box<Network>),
    NetworkReady {
        network: NetworkId,
    },
    NetworkGone {
        network: NetworkId,
        removed: bool,
    },
    /// What a host says of its uplinks and networks.
    HostNetworks {
        host: HostId,
        uplinks: Vec<Uplink>,
        networks: BTreeMap<String, HostNet>,
    },
    /// What a machine's record says of its cards.
    MachineNics {
        machine: MachineId,
        nics: Vec<Nic>,
    },
    /// What a machine's record says that it boots from.
    MachineBoot {
        machine: MachineId,
        boot: Boot,
    },
    /// Addresses that a machine gave up rest before they are given again.
    AddressesReleased {
        network: NetworkId,
        addresses: Vec<IpAddr>,
        at: Moment,
    },
    /// What a host says that it mounts.
    HostMounts {
        host: HostId,
        initiator: String,
        mounts: BTreeMap<VolumeId, Vec<Path>>,
    },
    /// The volume that a machine's record and disks were found on.
    MachineHome {
        machine: MachineId,
        volume: VolumeId,
    },
    VolumeSeen {
        volume: VolumeId,
        capacity: Bytes,
        used: Bytes,
    },
    MachinePlanned(Box<Machine>),
    MachineMade {
        machine: MachineId,
        guest_key: String,
    },
    MachineAdopted(Box<Machine>),
    MachineDropped {
        machine: MachineId,
    },
    MachineWanted {
        machine: MachineId,
        wanted: Wanted,
        host: Option<HostId>,
    },
    MachineSeen {
        machine: MachineId,
        state: MachineState,
        host: Option<HostId>,
        generation: u64,
    },
    /// Somebody looks at a console.
    ConsoleOpened {
        of: ConsoleOf,
        /// Also to type into it.
        writes: bool,
        /// Its graphical screen, not its text console.
        #[serde(default)]
        screen: bool,
    },
    /// A picture of its screen was kept, from before something ended what it showed.
    ScreenKept {
        machine: MachineId,
        picture: uuid::Uuid,
        why: String,
    },
    /// Room is held for it on another host, or given back.
    MachineMoving {
        machine: MachineId,
        to: Option<HostId>,
    },
    /// It runs on another host now, under a higher generation.
    MachineMoved {
        machine: MachineId,
        generation: u64,
        moved: Box<Moved>,
    },
    MachineDeleted {
        machine: MachineId,
        at: Moment,
    },
    MachineRecovered {
        machine: MachineId,
    },
    MachinePurged {
        machine: MachineId,
    },
    Edited {
        target: Target,
        sets: Vec<Set>,
    },
    RunStarted {
        run: Box<Run>,
        plan: Box<Plan>,
    },
    RunMoved {
        run: Box<Run>,
        what: String,
    },
    /// A device must do this now: becomes an order.
    Ordered {
        run: RunId,
        step: usize,
        attempt: u32,
        after_ms: u64,
    },
}

/// Whose console it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum ConsoleOf {
    Machine(MachineId),
    Host(HostId),
}

impl ConsoleOf {
    pub fn name(self, estate: &Estate) -> String {
        match self {
            ConsoleOf::Machine(id) => estate.machines.get(&id).map(|m| m.name.clone()),
            ConsoleOf::Host(id) => estate.hosts.get(&id).map(|h| h.name.clone()),
        }
        .unwrap_or_else(|| self.to_string())
    }
    pub fn exists(self, estate: &Estate) -> bool {
        match self {
            ConsoleOf::Machine(id) => estate.machines.contains_key(&id),
            ConsoleOf::Host(id) => estate.hosts.contains_key(&id),
        }
    }
    /// What somebody must be allowed to do to type there.
    pub fn act(self) -> Act {
        match self {
            ConsoleOf::Machine(_) => Act::Machines,
            ConsoleOf::Host(_) => Act::Hosts,
        }
    }
}

impl FromStr for ConsoleOf {
    type Err = NotAnId;
    fn from_str(text: &str) -> Result<Self, NotAnId> {
        match text.starts_with("host-") {
            true => text.parse().map(ConsoleOf::Host),
            false => text.parse().map(ConsoleOf::Machine),
        }
    }
}

impl fmt::Display for ConsoleOf {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            ConsoleOf::Machine(id) => id.fmt(f),
            ConsoleOf::Host(id) => id.fmt(f),
        }
    }
}

/// An event as people read it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Told {
    pub kind: String,
    pub text: String,
    /// Identifiers of what it is about, such as `machine-7`.
    pub about: Vec<String>,
}

type Words = Option<(&'static str, String, Vec<String>)>;

impl Event {
    /// The event in words, with the names that things have in `estate`; none for what is not worth a line.
    pub fn tell(&self, estate: &Estate) -> Option<Told> {
        let (kind, text, about) = self
            .of_host(estate)
            .or_else(|| self.of_cluster(estate))
            .or_else(|| self.of_storage(estate))
            .or_else(|| self.of_image(estate))
            .or_else(|| self.of_network(estate))
            .or_else(|| self.of_machine(estate))
            .or_else(|| self.of_console(estate))
            .or_else(|| self.of_work(estate))?;
        Some(Told {
            kind: kind.into(),
            text,
            about,
        })
    }

    fn of_host(&self, estate: &Estate) -> Words {
        let name = |id: &HostId| {
            estate
                .hosts
                .get(id)
                .map_or_else(|| id.to_string(), |h| h.name.clone())
        };
        let line = |id: &HostId, text: String| Some(("host", text, vec![id.to_string()]));
        match self {
            Event::HostClaimed(h) => line(&h.id, format!("{} was claimed", h.name)),
            Event::HostReleased { host } => line(host, format!("{} was handed back", name(host))),
            Event::HostCondition { host, condition } => match condition {
                Condition::Claiming => None,
                Condition::Steady => line(host, format!("{} answers", name(host))),
                Condition::Lost { why, .. } => {
                    line(host, format!("{} does not answer: {why}", name(host)))
                }
                Condition::Stranger { .. } => {
                    let words = "shows another certificate than the pinned one; orders are held";
                    line(host, format!("{} {words}", name(host)))
                }
            },
            Event::HostJoined { host, cluster } => {
                let to = estate
                    .clusters
                    .get(cluster)
                    .map_or_else(|| cluster.to_string(), |c| c.name.clone());
                Some((
                    "host",
                    format!("{} joined {to}", name(host)),
                    vec![host.to_string(), cluster.to_string()],
                ))
            }
            Event::HostLeft { host } => line(host, format!("{} left its cluster", name(host))),
            _ => None,
        }
    }

    fn of_cluster(&self, estate: &Estate) -> Words {
        let name = |id: &ClusterId| {
            estate
                .clusters
                .get(id)
                .map_or_else(|| id.to_string(), |c| c.name.clone())
        };
        let line = |id: &ClusterId, text: String| Some(("cluster", text, vec![id.to_string()]));
        match self {
            Event::SiteAdded(site) => Some((
                "site",
                format!("Site {} was added", site.name),
                vec![site.id.to_string()],
            )),
            Event::ClusterAdded { cluster: c, .. } => {
                line(&c.id, format!("Cluster {} is being made", c.name))
            }
            Event::ClusterReady { cluster } => {
                line(cluster, format!("Cluster {} is ready", name(cluster)))
            }
            Event::ClusterDropped { cluster } => {
                line(cluster, format!("Cluster {} was not made", name(cluster)))
            }
            _ => None,
        }
    }

    fn of_network(&self, estate: &Estate) -> Words {
        let name = |id: &NetworkId| {
            estate
                .networks
                .get(id)
                .map_or_else(|| id.to_string(), |n| n.name.clone())
        };
        let line = |id: &NetworkId, text: String| Some(("network", text, vec![id.to_string()]));
        match self {
            Event::SwitchSeen(new) => Some((
                "network",
                switch_words(estate.switches.get(&new.id).map(|s| &**s), new),
                vec![new.id.to_string()],
            )),
            Event::NetworkPlanned(n) => line(&n.id, format!("Network {} is being made", n.name)),
            Event::NetworkReady { network } => line(network, format!("{} is ready", name(network))),
            Event::NetworkGone { network, removed } => {
                let what = if *removed {
                    "was removed"
                } else {
                    "was not made"
                };
                line(network, format!("{} {what}", name(network)))
            }
            Event::HostNetworks { host, networks, .. } => {
                let held = estate.hosts.get(host)?;
                let lost: Vec<&str> = held
                    .networks
                    .keys()
                    .filter(|n| !networks.contains_key(*n))
                    .map(String::as_str)
                    .collect();
                if lost.is_empty() {
                    return None;
                }
                let text = format!("{} no longer has {}", held.name, lost.join(", "));
                Some(("network", text, vec![host.to_string()]))
            }
            _ => None,
        }
    }

    fn of_storage(&self, estate: &Estate) -> Words {
        let name = |id: &VolumeId| {
            estate
                .volumes
                .get(id)
                .map_or_else(|| id.to_string(), |v| v.name.clone())
        };
        let line = |id: &VolumeId, text: String| Some(("storage", text, vec![id.to_string()]));
        match self {
            Event::ArraySeen(new) => {
                let before = estate.arrays.get(&new.id).map(|a| &a.condition);
                let text = match (before, &new.condition) {
                    (Some(ArrayCondition::Connecting), _) => format!("{} was connected", new.name),
                    (Some(ArrayCondition::Lost { .. }), ArrayCondition::Steady) => {
                        format!("{} answers again", new.name)
                    }
                    (Some(ArrayCondition::Steady), ArrayCondition::Lost { why, .. }) => {
                        format!("{} does not answer: {why}", new.name)
                    }
                    _ => return None,
                };
                Some(("storage", text, vec![new.id.to_string()]))
            }
            Event::ArrayDropped { array } => {
                let name = estate
                    .arrays
                    .get(array)
                    .map_or_else(|| array.to_string(), |a| a.name.clone());
                Some((
                    "storage",
                    format!("{name} was not connected"),
                    vec![array.to_string()],
                ))
            }
            Event::VolumePlanned(v) => line(&v.id, format!("Volume {} is being connected", v.name)),
            Event::VolumeMade { volume, .. } => {
                line(volume, format!("{} was made on its array", name(volume)))
            }
            Event::VolumeReady { volume } => line(volume, format!("{} is connected", name(volume))),
            Event::VolumeGone {
                volume,
                handed_back,
            } => {
                let what = if *handed_back {
                    "was handed back"
                } else {
                    "was not connected"
                };
                line(volume, format!("{} {what}", name(volume)))
            }
            Event::HostMounts { host, mounts, .. } => {
                let held = estate.hosts.get(host)?;
                let lost: Vec<String> = held
                    .mounts
                    .keys()
                    .filter(|v| held.paths_up(**v) > 0)
                    .filter(|v| {
                        mounts
                            .get(*v)
                            .is_none_or(|paths| paths.iter().all(|p| !p.up))
                    })
                    .map(name)
                    .collect();
                if lost.is_empty() {
                    return None;
                }
                let text = format!("{} has no path to {} any more", held.name, lost.join(", "));
                Some(("storage", text, vec![host.to_string()]))
            }
            _ => None,
        }
    }

    fn of_image(&self, estate: &Estate) -> Words {
        match self {
            Event::ImagePlanned(i) => Some((
                "storage",
                format!("Room is held for the image {}", i.name),
                vec![i.id.to_string(), i.volume.to_string()],
            )),
            Event::ImageReady { image, label, .. } => {
                let i = estate.images.get(image)?;
                let text = format!("The image {} is whole; its label is “{label}”", i.name);
                Some((
                    "storage",
                    text,
                    vec![image.to_string(), i.volume.to_string()],
                ))
            }
            Event::ImageAdopted(i) => Some((
                "storage",
                format!("The image {} was found and registered", i.name),
                vec![i.id.to_string(), i.volume.to_string()],
            )),
            Event::ImageGone { image } => {
                let i = estate.images.get(image)?;
                let text = format!("The image {} was removed", i.name);
                Some((
                    "storage",
                    text,
                    vec![image.to_string(), i.volume.to_string()],
                ))
            }
            _ => None,
        }
    }

    fn of_machine(&self, estate: &Estate) -> Words {
        let name = |id: &MachineId| {
            estate
                .machines
                .get(id)
                .map_or_else(|| id.to_string(), |m| m.name.clone())
        };
        let line = |id: &MachineId, text: String| Some(("machine", text, vec![id.to_string()]));
        match self {
            Event::MachinePlanned(m) => {
                line(&m.id, format!("Name and room are held for {}", m.name))
            }
            Event::MachineMade { machine: m, .. } => line(m, format!("{} was created", name(m))),
            Event::MachineAdopted(m) => line(&m.id, format!("{} was found and registered", m.name)),
            Event::MachineDropped { machine: m } => line(
                m,
                format!("{} was not created; its name and room are free", name(m)),
            ),
            Event::MachineWanted {
                machine: m, wanted, ..
            } => {
                let word = if *wanted == Wanted::On { "on" } else { "off" };
                line(m, format!("{} shall be {word}", name(m)))
            }
            Event::MachineSeen {
                machine: m,
                state,
                host,
                ..
            } => {
                let host = host.as_ref().and_then(|h| estate.hosts.get(h));
                let place = host.map(|h| format!(" on {}", h.name)).unwrap_or_default();
                line(m, seen(&name(m), state, &place)?)
            }
            Event::MachineMoved {
                machine: m, moved, ..
            } => {
                let host = |id: &HostId| {
                    let host = estate.hosts.get(id);
                    host.map_or_else(|| id.to_string(), |h| h.name.clone())
                };
                let (from, to) = (host(&moved.from), host(&moved.to));
                let (took, still) = (moved.measured.took, moved.measured.stood_still);
                let text = format!(
                    "{} was moved from {from} to {to} in {took}; it stood still for {still}",
                    name(m)
                );
                line(m, text)
            }
            Event::MachineBoot { machine: m, boot } => {
                let was = estate.machines.get(m)?.boot.once?;
                let text = format!("{} booted once from its {was}", name(m));
                boot.once.is_none().then(|| line(m, text)).flatten()
            }
            Event::MachineDeleted { machine: m, .. } => line(
                m,
                format!(
                    "{} was deleted; it can be brought back for {} days",
                    name(m),
                    Machine::KEPT_DAYS
                ),
            ),
            Event::MachineRecovered { machine: m } => {
                line(m, format!("{} was brought back", name(m)))
            }
            Event::MachinePurged { machine: m } => {
                line(m, format!("{} was removed for good", name(m)))
            }
            _ => None,
        }
    }

    fn of_console(&self, estate: &Estate) -> Words {
        match self {
            Event::ConsoleOpened { of, writes, screen } => {
                let what = if *screen { "screen" } else { "console" };
                let how = if *writes { "" } else { ", to look at" };
                let text = format!("The {what} of {} was opened{how}", of.name(estate));
                Some(("console", text, vec![of.to_string()]))
            }
            Event::ScreenKept {
                machine,
                picture,
                why,
            } => {
                let text = format!(
                    "A picture of the screen of {} was kept: {why}",
                    ConsoleOf::Machine(*machine).name(estate)
                );
                let about = vec![machine.to_string(), format!("picture-{picture}")];
                Some(("console", text, about))
            }
            _ => None,
        }
    }

    fn of_work(&self, estate: &Estate) -> Words {
        match self {
            Event::Edited { target, sets } => {
                let what = sets.iter().map(Set::tell).collect::<Vec<_>>().join("; ");
                Some((
                    "edit",
                    format!("{}: {what}", target.name(estate)),
                    vec![target.to_string()],
                ))
            }
            Event::RunStarted { run, .. } => Some((
                "run",
                format!("Began: {}", run.title),
                vec![run.id.to_string()],
            )),
            Event::RunMoved { run, what } if !what.is_empty() => Some((
                "run",
                format!("{}: {what}", run.title),
                vec![run.id.to_string()],
            )),
            _ => None,
        }
    }
}

fn switch_words(before: Option<&Switch>, new: &Switch) -> String {
    match before {
        Some(b) if !b.known => format!("{} was connected", new.name),
        Some(b) if b.answers() && !new.answers() => {
            let why = new.access.silent.clone().unwrap_or_default();
            format!("{} does not answer: {why}", new.name)
        }
        Some(b) if !b.answers() && new.answers() => format!("{} answers again", new.name),
        _ => format!("Ports of {} changed", new.name),
    }
}

/// What a machine was seen doing; phases in between are not worth a line.
fn seen(name: &str, state: &MachineState, place: &str) -> Option<String> {
    match state {
        MachineState::Off => Some(format!("{name} is off")),
        MachineState::Running { guest: true } => Some(format!("{name} is up and answers{place}")),
        MachineState::Running { guest: false } => {
            Some(format!("{name} runs{place}; its agent is silent"))
        }
        MachineState::Paused(why) => Some(format!("{name} was paused{place}: {why}")),
        MachineState::Starting(phase) if phase == "firmware" => {
            Some(format!("{name} starts{place}"))
        }
        MachineState::Starting(_) | MachineState::Planned | MachineState::Stopping => None,
    }
}
