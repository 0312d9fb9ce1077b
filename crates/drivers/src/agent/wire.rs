//! Values as an agent sends them, and what they mean in core's words.

mod copying;
mod firmware;
mod first_boot;
mod inventory;
mod pool;
mod shared;
pub(crate) mod snapshots;
mod unattached;
mod volume;

pub(crate) use copying::WireCopying;
pub(crate) use firmware::firmware;
pub(crate) use inventory::Inventory;
pub(crate) use pool::WirePool;
pub(crate) use shared::WireShared;
pub(crate) use unattached::{Changed, WireUnattached};
pub(crate) use volume::WirePath;

use super::measured::Load;
use serde::Deserialize;
use std::collections::BTreeMap;
use uuid::Uuid;
use volume::WireVolume;
use zastrugi_core::guard::Word;
use zastrugi_core::{
    epoch::{Epoch, Obeyed},
    estate::{
        AsOf, Cpu, Grows, Hardware, HostNet, Image, Keeper, MachineState, Memory, Now, PsabiLevel,
        Uplink,
    },
    evidence::{SeenDevice, SeenVolume},
    ids::{HostId, ImageId, Revision, VolumeId},
    limits,
    moment::Moment,
    observe::{BootReport, DiskReport, HostReport, MachineReport, NicReport, count, figure},
    units::{Bytes, Mhz},
};

#[derive(Debug, Deserialize)]
pub(crate) struct Greeting {
    pub(crate) protocol: u32,
    pub(crate) name: String,
    pub(crate) hardware: WireHardware,
    pub(crate) software: String,
    pub(crate) owner: Option<WireOwner>,
    #[serde(default)]
    pub(crate) machines: Vec<String>,
    pub(crate) bmc: Option<String>,
    #[serde(default)]
    pub(crate) installed: Option<WireInstalled>,
}

#[derive(Debug, Default, Deserialize)]
pub(crate) struct WireInstalled {
    #[serde(default)]
    pub(crate) proof: String,
    #[serde(default)]
    pub(crate) starts: u32,
}

#[derive(Debug, Deserialize)]
pub(crate) struct WireOwner {
    pub(crate) installation: String,
    pub(crate) name: String,
}

#[derive(Debug, Deserialize)]
pub(crate) struct WireHardware {
    maker: String,
    model: String,
    serial: String,
    cpu: WireCpu,
    memory_bytes: u64,
    numa_nodes: u32,
    virtualization: bool,
    virtual_hardware: u32,
}

#[derive(Debug, Deserialize)]
struct WireCpu {
    maker: String,
    model: String,
    level: String,
    sockets: u32,
    cores: u32,
    threads: u32,
    base_mhz: u64,
}

impl WireHardware {
    pub(crate) fn read(self) -> Result<Hardware, String> {
        let level = PsabiLevel::ALL
            .into_iter()
            .find(|l| l.word() == self.cpu.level);
        let level = level.ok_or_else(|| format!("CPU level “{}”", self.cpu.level))?;
        Ok(Hardware {
            maker: limited(self.maker),
            model: limited(self.model),
            serial: limited(self.serial),
            cpu: Cpu {
                maker: limited(self.cpu.maker),
                model: limited(self.cpu.model),
                sockets: count(self.cpu.sockets, &limits::FIGURE_CORES),
                cores: count(self.cpu.cores, &limits::FIGURE_CORES),
                threads: count(self.cpu.threads, &limits::FIGURE_CORES),
                base: Mhz(self.cpu.base_mhz.min(100_000)),
                level,
            },
            memory: Bytes(figure(self.memory_bytes, &limits::FIGURE_MEMORY)),
            numa_nodes: count(self.numa_nodes, &limits::FIGURE_CORES),
            virtualization: self.virtualization,
            virtual_hardware: self.virtual_hardware,
        })
    }
}

/// Strings from devices are limited in length and have no control characters.
pub(crate) fn limited(text: String) -> String {
    text.chars().filter(|c| !c.is_control()).take(120).collect()
}

/// Whose orders the host last obeyed.
#[derive(Debug, Deserialize)]
struct WireSeen {
    epoch: u64,
    history: String,
    fence: u64,
}

impl WireSeen {
    /// None where nobody gave an order yet.
    fn read(&self) -> Option<Obeyed> {
        let epoch = Epoch {
            number: self.epoch,
            history: self.history.parse().ok()?,
        };
        let fence = Revision(self.fence);
        Some(Obeyed { epoch, fence })
    }
}

#[derive(Debug, Deserialize)]
pub(crate) struct Report {
    boot: u64,
    seq: u64,
    #[serde(default)]
    seen: Option<WireSeen>,
    software: String,
    #[serde(default)]
    initiator: String,
    #[serde(default)]
    ended: Vec<Uuid>,
    #[serde(default)]
    uplinks: Vec<WireUplink>,
    #[serde(default)]
    networks: BTreeMap<String, WireNet>,
    #[serde(default)]
    machines: Vec<Machine>,
    #[serde(default)]
    volumes: Vec<WireVolume>,
    #[serde(default)]
    disks: Vec<pool::WireDisk>,
    #[serde(default)]
    pub(crate) load: Load,
    #[serde(default)]
    pub(crate) screens: Vec<WireScreen>,
    #[serde(default)]
    pub(crate) watchdog: WireWatchdog,
    #[serde(default)]
    keepers: Vec<WireKeeper>,
}

/// A keeper that the host runs.
#[derive(Debug, Deserialize)]
struct WireKeeper {
    cluster: String,
    #[serde(default)]
    keeps: bool,
}

/// What resets the host when its lease has run out.
#[derive(Debug, Default, Deserialize)]
pub(crate) struct WireWatchdog {
    #[serde(default)]
    pub(crate) armed: bool,
}

/// Leases on one volume that are read.
const LEASES: usize = 256;

impl Report {
    /// The leases on each volume that the host reaches.
    pub(crate) fn leases(&mut self) -> BTreeMap<String, BTreeMap<String, Word>> {
        let read = self.volumes.iter_mut().filter_map(|v| {
            let leases = v.leases.take()?.into_iter().take(LEASES);
            let words = v.lease_words.take().unwrap_or_default();
            let word = |(serial, counter): (String, u64)| {
                let beside = words.get(&serial).copied().unwrap_or_default();
                let word = Word {
                    counter,
                    unlinked: beside.unlinked,
                    ended: beside.ended,
                };
                (limited(serial), word)
            };
            Some((limited(v.uid.clone()), leases.map(word).collect()))
        });
        read.collect()
    }
}

/// A picture that the host kept.
#[derive(Debug, Deserialize)]
pub(crate) struct WireScreen {
    pub(crate) uuid: Uuid,
    pub(crate) number: i64,
    why: String,
}

impl WireScreen {
    pub(crate) fn why(&self) -> String {
        limited(self.why.clone())
    }
}

/// What is offered to a host.
#[derive(Debug, Deserialize)]
pub(crate) struct Storage {
    pub(crate) initiator: String,
    devices: Vec<WireDevice>,
}

#[derive(Debug, Deserialize)]
pub(crate) struct WireDevice {
    pub(crate) uid: String,
    #[serde(default)]
    name: String,
    capacity: u64,
    signature: Option<String>,
    zero: bool,
    owner: Option<WireOwner>,
    machines: u32,
    mounted: bool,
    #[serde(default)]
    used: u64,
    #[serde(default)]
    paths: Vec<WirePath>,
}

impl Storage {
    pub(crate) fn devices(self) -> Vec<(SeenDevice, SeenVolume)> {
        let all = self.devices.into_iter().take(4096);
        all.map(|d| {
            let volume = SeenVolume {
                uid: limited(d.uid.clone()),
                name: limited(d.name),
                capacity: Bytes(figure(d.capacity, &limits::FIGURE_DISK)),
                used: Bytes(figure(d.used, &limits::FIGURE_DISK)),
                paths: d.paths.into_iter().take(64).map(WirePath::read).collect(),
                pool: None,
                unattached: None,
                shared: None,
                records: None,
            };
            let device = SeenDevice {
                uid: limited(d.uid),
                signature: d.signature.map(limited),
                zero: d.zero,
                owner: d.owner.map(|o| (limited(o.installation), limited(o.name))),
                machines: d.machines,
                mounted: d.mounted,
            };
            (device, volume)
        })
        .collect()
    }
}

#[derive(Debug, Deserialize)]
pub(crate) struct Machine {
    pub(crate) uuid: Uuid,
    name: String,
    pub(crate) generation: u64,
    vcpus: u32,
    memory: WireMemory,
    video: u64,
    disks: Vec<WireDisk>,
    #[serde(default)]
    pub(crate) volume: String,
    #[serde(default)]
    nics: Vec<WireNic>,
    #[serde(default)]
    boot: Option<WireBoot>,
    #[serde(default)]
    labels: BTreeMap<String, String>,
    #[serde(default)]
    tier: u8,
    #[serde(default)]
    apart: Option<String>,
    #[serde(default)]
    protected: bool,
    #[serde(default)]
    note: String,
    virtual_hardware: u32,
    pub(crate) guest_key: Option<String>,
    #[serde(default)]
    generation_id: Option<Uuid>,
    #[serde(default)]
    first_boot: Option<first_boot::WireApplied>,
    #[serde(default)]
    created_ms: i64,
    #[serde(default)]
    pub(crate) deleted: bool,
    #[serde(default)]
    power: Option<String>,
    #[serde(default)]
    phase: Option<String>,
    #[serde(default)]
    guest_answers: bool,
    #[serde(default)]
    pub(crate) as_of: Option<WireAsOf>,
    #[serde(default)]
    vcpus_max: u32,
    /// With what it runs.
    #[serde(default)]
    now: Option<WireNow>,
    #[serde(default)]
    grows: Option<WireGrows>,
    /// None: the agent keeps none, or doesn't tell.
    #[serde(default)]
    snapshots: Option<Vec<snapshots::WireSnapshot>>,
    #[serde(default)]
    rests_on: Option<Uuid>,
    /// None: the agent doesn't tell.
    #[serde(default)]
    firmware: Option<firmware::WireFirmware>,
    /// None: the agent shares none, or doesn't tell.
    #[serde(default)]
    shares: Option<Vec<shared::WireShare>>,
    /// Only in a volume's records.
    #[serde(default)]
    pub(crate) running_on: Option<String>,
}

#[derive(Debug, Deserialize)]
struct WireNow {
    vcpus: u32,
    #[serde(default)]
    vcpus_max: u32,
    memory: WireMemory,
}

/// What the guest can take while it runs.
#[derive(Debug, Clone, Copy, Deserialize)]
struct WireGrows {
    #[serde(default)]
    memory: bool,
    #[serde(default)]
    vcpus: bool,
}

/// Where in its host's sequence something was said.
#[derive(Debug, Clone, Copy, Deserialize)]
pub(crate) struct WireAsOf {
    boot: u64,
    seq: u64,
}

impl WireAsOf {
    pub(crate) fn at(self, host: HostId) -> AsOf {
        let WireAsOf { boot, seq } = self;
        AsOf { host, boot, seq }
    }
}

#[derive(Debug, Deserialize)]
struct WireMemory {
    kept: u64,
    size: u64,
    max: u64,
}

#[derive(Debug, Deserialize)]
struct WireDisk {
    /// Its own, wherever it goes.
    #[serde(default)]
    key: Uuid,
    size: u64,
    thick: bool,
}

#[derive(Debug, Deserialize)]
struct WireNic {
    mac: String,
    #[serde(default)]
    network: Option<String>,
    #[serde(default)]
    addresses: Vec<String>,
}

impl WireNic {
    fn read(self) -> NicReport {
        let address = |text: &String| {
            let bare = text.split('/').next().unwrap_or_default();
            bare.parse().ok()
        };
        NicReport {
            mac: limited(self.mac),
            network: self.network.map(limited),
            addresses: self.addresses.iter().take(16).filter_map(address).collect(),
        }
    }
}

#[derive(Debug, Deserialize)]
struct WireBoot {
    #[serde(default)]
    image: Option<WireImageAt>,
    #[serde(default)]
    order: Vec<String>,
    #[serde(default)]
    once: Option<String>,
}

#[derive(Debug, Deserialize)]
struct WireImageAt {
    id: Uuid,
}

impl WireBoot {
    fn read(self) -> BootReport {
        let order = self.order.iter().take(8).filter_map(|b| b.parse().ok());
        BootReport {
            image: self.image.map(|i| i.id),
            order: order.collect(),
            once: self.once.and_then(|b| b.parse().ok()),
        }
    }
}

/// A whole image on a volume.
#[derive(Debug, Deserialize)]
pub(crate) struct WireImage {
    pub(crate) id: Uuid,
    name: String,
    size: u64,
    sha256: String,
}

impl WireImage {
    /// As it is registered where it was found; its number is given later.
    pub(crate) fn read(self, volume: VolumeId, label: String, now: Moment) -> Image {
        Image {
            id: ImageId(0),
            carries_agent: false,
            uuid: self.id,
            name: limited(self.name),
            volume,
            size: Bytes(self.size),
            mark: String::new(),
            expected: None,
            sha256: Some(limited(self.sha256)),
            label,
            holds: Default::default(),
            ready: true,
            added: now,
        }
    }
}

#[derive(Debug, Deserialize)]
struct WireUplink {
    name: String,
    mac: String,
    mbit: u64,
    #[serde(default = "yes")]
    up: bool,
    switch: String,
    port: String,
}

#[derive(Debug, Deserialize)]
struct WireNet {
    vlan: Option<u16>,
    mtu: u32,
    uplinks: Vec<String>,
}

impl WireUplink {
    fn read(self) -> Uplink {
        Uplink {
            name: limited(self.name),
            mac: limited(self.mac),
            mbit: self.mbit,
            up: self.up,
            switch: limited(self.switch),
            port: limited(self.port),
        }
    }
}

impl WireNet {
    fn read(self) -> HostNet {
        HostNet {
            vlan: self.vlan,
            mtu: self.mtu,
            uplinks: self.uplinks.into_iter().take(64).map(limited).collect(),
        }
    }
}

impl WireMemory {
    fn read(&self) -> Memory {
        Memory {
            kept: Bytes(self.kept),
            size: Bytes(self.size),
            max: Bytes(self.max),
        }
    }
}

impl Machine {
    pub(crate) fn state(&self) -> MachineState {
        match (self.power.as_deref(), self.phase.as_deref()) {
            (Some("stopping"), _) => MachineState::Stopping,
            (Some("paused"), why) => {
                MachineState::Paused(limited(why.unwrap_or("by its host").to_owned()))
            }
            (Some("on"), Some("up")) => MachineState::Running {
                guest: self.guest_answers,
            },
            (Some("on"), phase) => {
                MachineState::Starting(limited(phase.unwrap_or("on").to_owned()))
            }
            _ => MachineState::Off,
        }
    }

    pub(crate) fn read(self) -> MachineReport {
        let state = self.state();
        let report = MachineReport {
            uuid: self.uuid,
            name: limited(self.name),
            state,
            generation: self.generation,
            vcpus: self.vcpus,
            memory: self.memory.read(),
            video: Bytes(self.video),
            disks: self
                .disks
                .iter()
                .take(64)
                .map(|d| DiskReport {
                    key: d.key,
                    size: Bytes(d.size),
                    thick: d.thick,
                })
                .collect(),
            volume: limited(self.volume),
            nics: self.nics.into_iter().take(16).map(WireNic::read).collect(),
            boot: self.boot.map(WireBoot::read),
            labels: self
                .labels
                .into_iter()
                .take(64)
                .map(|(k, v)| (limited(k), limited(v)))
                .collect(),
            tier: self.tier.clamp(1, 4),
            apart: self.apart.map(limited),
            protected: self.protected,
            generation_id: self.generation_id.filter(|id| !id.is_nil()),
            first_boot: self.first_boot.and_then(|f| f.read(self.uuid)),
            guest_key: self.guest_key.map(limited).filter(|k| !k.is_empty()),
            note: self.note.chars().take(2000).collect(),
            virtual_hardware: self.virtual_hardware,
            created: Moment(self.created_ms),
            vcpus_max: self.vcpus_max,
            now: self.now.map(|now| Now {
                vcpus: now.vcpus,
                vcpus_max: now.vcpus_max.max(now.vcpus),
                memory: now.memory.read(),
            }),
            grows: self.grows.map(|g| Grows {
                memory: g.memory,
                vcpus: g.vcpus,
            }),
            snapshots: self
                .snapshots
                .map(|all| Box::new(snapshots::all(all, self.rests_on))),
            firmware: self.firmware.map(|f| Box::new(f.read())),
            shares: self.shares.map(|all| {
                all.into_iter()
                    .take(64)
                    .map(shared::WireShare::read)
                    .collect()
            }),
        };
        report.bounded()
    }
}

impl Report {
    pub(crate) fn read(self) -> HostReport {
        let report = HostReport {
            ended: self.ended.into_iter().take(LEASES * 16).collect(),
            boot: self.boot,
            seq: self.seq,
            obeyed: self.seen.as_ref().and_then(WireSeen::read),
            software: limited(self.software),
            watchdog: self.watchdog.armed,
            keepers: self
                .keepers
                .into_iter()
                .take(16)
                .filter_map(|k| Some((k.cluster.parse().ok()?, Keeper { keeps: k.keeps })))
                .collect(),
            initiator: limited(self.initiator),
            uplinks: self
                .uplinks
                .into_iter()
                .take(64)
                .map(WireUplink::read)
                .collect(),
            networks: self
                .networks
                .into_iter()
                .take(512)
                .map(|(name, n)| (limited(name), n.read()))
                .collect(),
            machines: self.machines.into_iter().map(Machine::read).collect(),
            volumes: self.volumes.into_iter().map(WireVolume::read).collect(),
            disks: pool::disks(self.disks),
        };
        report.bounded()
    }
}

#[cfg(test)]
mod tests;

fn yes() -> bool {
    true
}
