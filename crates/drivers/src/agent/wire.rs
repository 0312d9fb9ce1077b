//! Values as an agent sends them, and what they mean in core's words.

use serde::Deserialize;
use std::collections::BTreeMap;
use uuid::Uuid;
use zastrugi_core::{
    estate::{Cpu, Hardware, HostNet, MachineState, Memory, Path, PsabiLevel, Uplink},
    evidence::{SeenDevice, SeenVolume},
    moment::Moment,
    observe::{HostReport, MachineReport, NicReport},
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
                sockets: self.cpu.sockets,
                cores: self.cpu.cores,
                threads: self.cpu.threads,
                base: Mhz(self.cpu.base_mhz),
                level,
            },
            memory: Bytes(self.memory_bytes),
            numa_nodes: self.numa_nodes,
            virtualization: self.virtualization,
            virtual_hardware: self.virtual_hardware,
        })
    }
}

/// Strings from devices are limited in length and have no control characters.
pub(crate) fn limited(text: String) -> String {
    text.chars().filter(|c| !c.is_control()).take(120).collect()
}

#[derive(Debug, Deserialize)]
pub(crate) struct Report {
    boot: u64,
    seq: u64,
    software: String,
    #[serde(default)]
    initiator: String,
    #[serde(default)]
    uplinks: Vec<WireUplink>,
    #[serde(default)]
    networks: BTreeMap<String, WireNet>,
    #[serde(default)]
    machines: Vec<Machine>,
    #[serde(default)]
    volumes: Vec<WireVolume>,
    #[serde(default)]
    pub(crate) load: Load,
}

#[derive(Debug, Deserialize)]
struct WireVolume {
    uid: String,
    name: String,
    capacity: u64,
    used: u64,
    #[serde(default)]
    paths: Vec<WirePath>,
}

#[derive(Debug, Deserialize)]
pub(crate) struct WirePath {
    portal: String,
    uplink: String,
    up: bool,
}

impl WirePath {
    pub(crate) fn read(self) -> Path {
        Path {
            portal: limited(self.portal),
            uplink: limited(self.uplink),
            up: self.up,
        }
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
                capacity: Bytes(d.capacity),
                used: Bytes(d.used),
                paths: d.paths.into_iter().take(64).map(WirePath::read).collect(),
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

#[derive(Debug, Default, Deserialize)]
pub(crate) struct Load {
    pub(crate) cpu_mhz: u64,
    pub(crate) active: u64,
    #[serde(default)]
    pub(crate) machines: BTreeMap<Uuid, WireLoad>,
}

#[derive(Debug, Deserialize)]
pub(crate) struct WireLoad {
    pub(crate) cpu_mhz: u64,
    pub(crate) active: u64,
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
    volume: String,
    #[serde(default)]
    nics: Vec<WireNic>,
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
    guest_key: Option<String>,
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
    /// Only in a volume's records.
    #[serde(default)]
    pub(crate) running_on: Option<String>,
}

#[derive(Debug, Deserialize)]
struct WireMemory {
    kept: u64,
    size: u64,
    max: u64,
}

#[derive(Debug, Deserialize)]
struct WireDisk {
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
struct WireUplink {
    name: String,
    mac: String,
    mbit: u64,
    switch: String,
    port: String,
}

#[derive(Debug, Deserialize)]
struct WireNet {
    vlan: Option<u16>,
    mtu: u32,
    uplinks: Vec<String>,
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
        MachineReport {
            uuid: self.uuid,
            name: limited(self.name),
            state,
            generation: self.generation,
            vcpus: self.vcpus,
            memory: Memory {
                kept: Bytes(self.memory.kept),
                size: Bytes(self.memory.size),
                max: Bytes(self.memory.max),
            },
            video: Bytes(self.video),
            disks: self
                .disks
                .iter()
                .take(64)
                .map(|d| (Bytes(d.size), d.thick))
                .collect(),
            volume: limited(self.volume),
            nics: self.nics.into_iter().take(16).map(WireNic::read).collect(),
            labels: self
                .labels
                .into_iter()
                .take(64)
                .map(|(k, v)| (limited(k), limited(v)))
                .collect(),
            tier: self.tier.clamp(1, 4),
            apart: self.apart.map(limited),
            protected: self.protected,
            guest_key: self.guest_key.map(limited).filter(|k| !k.is_empty()),
            note: self.note.chars().take(2000).collect(),
            virtual_hardware: self.virtual_hardware,
            created: Moment(self.created_ms),
        }
    }
}

impl Report {
    pub(crate) fn read(self) -> HostReport {
        HostReport {
            boot: self.boot,
            seq: self.seq,
            software: limited(self.software),
            initiator: limited(self.initiator),
            uplinks: self
                .uplinks
                .into_iter()
                .take(64)
                .map(|u| Uplink {
                    name: limited(u.name),
                    mac: limited(u.mac),
                    mbit: u.mbit,
                    switch: limited(u.switch),
                    port: limited(u.port),
                })
                .collect(),
            networks: self
                .networks
                .into_iter()
                .take(512)
                .map(|(name, n)| {
                    let has = HostNet {
                        vlan: n.vlan,
                        mtu: n.mtu,
                        uplinks: n.uplinks.into_iter().take(64).map(limited).collect(),
                    };
                    (limited(name), has)
                })
                .collect(),
            machines: self.machines.into_iter().map(Machine::read).collect(),
            volumes: self
                .volumes
                .into_iter()
                .map(|v| SeenVolume {
                    uid: limited(v.uid),
                    name: limited(v.name),
                    capacity: Bytes(v.capacity),
                    used: Bytes(v.used),
                    paths: v.paths.into_iter().take(64).map(WirePath::read).collect(),
                })
                .collect(),
        }
    }
}
