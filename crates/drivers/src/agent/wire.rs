//! Values as an agent sends them, and what they mean in core's words.

use super::measured::Load;
use serde::Deserialize;
use std::collections::BTreeMap;
use uuid::Uuid;
use zastrugi_core::{
    epoch::{Epoch, Obeyed},
    estate::{AsOf, Cpu, Hardware, HostNet, Image, MachineState, Memory, Path, PsabiLevel, Uplink},
    evidence::{SeenDevice, SeenVolume},
    ids::{HostId, ImageId, Revision, VolumeId},
    limits,
    moment::Moment,
    observe::{BootReport, HostReport, MachineReport, NicReport, count, figure},
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
    uplinks: Vec<WireUplink>,
    #[serde(default)]
    networks: BTreeMap<String, WireNet>,
    #[serde(default)]
    machines: Vec<Machine>,
    #[serde(default)]
    volumes: Vec<WireVolume>,
    #[serde(default)]
    pub(crate) load: Load,
    #[serde(default)]
    pub(crate) screens: Vec<WireScreen>,
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
                capacity: Bytes(figure(d.capacity, &limits::FIGURE_DISK)),
                used: Bytes(figure(d.used, &limits::FIGURE_DISK)),
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
    /// Only in a volume's records.
    #[serde(default)]
    pub(crate) running_on: Option<String>,
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
            uuid: self.id,
            name: limited(self.name),
            volume,
            size: Bytes(self.size),
            mark: String::new(),
            expected: None,
            sha256: Some(limited(self.sha256)),
            label,
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
        let report = MachineReport {
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
            guest_key: self.guest_key.map(limited).filter(|k| !k.is_empty()),
            note: self.note.chars().take(2000).collect(),
            virtual_hardware: self.virtual_hardware,
            created: Moment(self.created_ms),
        };
        report.bounded()
    }
}

impl Report {
    pub(crate) fn read(self) -> HostReport {
        let report = HostReport {
            boot: self.boot,
            seq: self.seq,
            obeyed: self.seen.as_ref().and_then(WireSeen::read),
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
        };
        report.bounded()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::{Value, json};

    fn machine(extra: &[(&str, Value)]) -> Machine {
        let mut body = json!({"uuid": "00000000-0000-4000-8000-000000000007", "name": "db", "generation": 3, "vcpus": 2,
            "memory": {"kept": 1, "size": 2, "max": 3}, "video": 4, "disks": [{"size": 5, "thick": true}],
            "virtual_hardware": 3, "guest_key": ""});
        for (name, value) in extra {
            body[*name] = value.clone();
        }
        serde_json::from_value(body).unwrap()
    }

    fn state(power: &str, phase: &str, answers: bool) -> MachineState {
        machine(&[
            ("power", power.into()),
            ("phase", phase.into()),
            ("guest_answers", answers.into()),
        ])
        .state()
    }

    #[test]
    fn power_and_phase_are_read_as_one_state() {
        assert_eq!(state("off", "off", false), MachineState::Off);
        assert_eq!(state("stopping", "stopping", true), MachineState::Stopping);
        assert_eq!(
            state("on", "kernel", false),
            MachineState::Starting("kernel".into())
        );
        assert_eq!(
            state("on", "up", false),
            MachineState::Running { guest: false }
        );
        assert_eq!(
            state("on", "up", true),
            MachineState::Running { guest: true }
        );
        assert_eq!(
            state("paused", "slab is full", true),
            MachineState::Paused("slab is full".into())
        );
        assert_eq!(machine(&[]).state(), MachineState::Off, "nothing said");
        assert_eq!(state("sideways", "up", true), MachineState::Off);
    }

    #[test]
    fn strings_from_hosts_are_limited_and_have_no_control_characters() {
        let long = "x".repeat(500);
        let read = machine(&[
            ("name", json!(format!("d\u{7}b\n{long}"))),
            ("note", json!("n".repeat(5000))),
            ("labels", json!({"a\u{0}b": "c\td"})),
            ("tier", json!(9)),
        ])
        .read();
        assert_eq!(read.name.chars().count(), 120);
        assert!(read.name.starts_with("dbxx"));
        assert_eq!(read.note.len(), 2000);
        assert_eq!(read.labels.get("ab").map(String::as_str), Some("cd"));
        assert_eq!(read.tier, 4, "clamped to what there is");
        assert_eq!(read.guest_key, None, "an empty key is none");
    }

    #[test]
    fn cards_are_read_with_and_without_prefix_and_nonsense_is_left_out() {
        let nics = json!([
            {"mac": "02:5a:00:00:00:01", "network": "crew", "addresses": ["10.2.0.9/24", "2001:db8::9", "nonsense"]},
            {"mac": "02:5a:00:00:00:02"}
        ]);
        let read = machine(&[("nics", nics)]).read();
        assert_eq!(read.nics.len(), 2);
        let addresses: Vec<String> = read.nics[0]
            .addresses
            .iter()
            .map(ToString::to_string)
            .collect();
        assert_eq!(addresses, ["10.2.0.9", "2001:db8::9"]);
        assert_eq!(read.nics[1].network, None);
        let many: Vec<Value> = (0..40).map(|n| json!({"mac": format!("m{n}")})).collect();
        let read = machine(&[("nics", many.into())]).read();
        assert_eq!(read.nics.len(), 16, "no more than a machine has");
    }

    fn report(extra: &[(&str, Value)]) -> HostReport {
        let mut body = json!({"boot": 1, "seq": 2, "software": "4.2.1"});
        for (name, value) in extra {
            body[*name] = value.clone();
        }
        serde_json::from_value::<Report>(body).unwrap().read()
    }

    #[test]
    fn an_older_agent_that_tells_nothing_of_storage_and_networks_is_still_read() {
        let read = report(&[]);
        assert_eq!((read.boot, read.seq), (1, 2));
        assert!(read.initiator.is_empty() && read.uplinks.is_empty() && read.networks.is_empty());
        let volume = json!([{"uid": "v", "name": "slab", "capacity": 9, "used": 1}]);
        assert_eq!(report(&[("volumes", volume)]).volumes[0].paths, []);
    }

    #[test]
    fn paths_uplinks_and_networks_are_read_within_limits() {
        let path = |n: u32| json!({"portal": format!("10.0.9.{n}:3260"), "uplink": "storage-1", "up": n.is_multiple_of(2)});
        let paths: Vec<Value> = (0..100).map(path).collect();
        let read = report(&[
            ("initiator", "iqn.2026-01.net.example:h1".into()),
            (
                "volumes",
                json!([{"uid": "v", "name": "slab", "capacity": 9, "used": 1, "paths": paths}]),
            ),
            (
                "uplinks",
                json!([{"name": "uplink-1", "mac": "06:00:00:00:00:01", "mbit": 25000, "switch": "sw1", "port": "eth1"}]),
            ),
            (
                "networks",
                json!({"crew": {"vlan": 20, "mtu": 1500, "uplinks": ["uplink-1"]}, "flat": {"vlan": null, "mtu": 9000, "uplinks": []}}),
            ),
        ]);
        assert_eq!(read.volumes[0].paths.len(), 64);
        assert!(read.volumes[0].paths[0].up && !read.volumes[0].paths[1].up);
        assert_eq!(read.uplinks[0].mbit, 25_000);
        assert_eq!(read.networks["crew"].vlan, Some(20));
        assert_eq!(read.networks["flat"].vlan, None, "untagged");
    }

    #[test]
    fn what_is_offered_to_a_host_keeps_owner_and_signature() {
        let storage: Storage = serde_json::from_value(json!({"initiator": "iqn.x", "portals": [], "devices": [
            {"uid": "v1", "name": "slab", "capacity": 9, "used": 3, "signature": "zastrugi 1", "zero": false,
             "owner": {"installation": "i", "name": "Northern Yard", "cluster": "a"}, "machines": 2, "mounted": true, "paths": []},
            {"uid": "v2", "capacity": 9, "signature": null, "zero": true, "owner": null, "machines": 0, "mounted": false}]}))
        .unwrap();
        let all = storage.devices();
        assert!(all[0].0.has_our_format() && !all[0].0.is_blank());
        assert_eq!(
            all[0].0.owner,
            Some(("i".to_owned(), "Northern Yard".to_owned()))
        );
        assert_eq!(all[0].1.used, Bytes(3));
        assert!(all[1].0.is_blank() && !all[1].0.has_our_format());
    }

    #[test]
    fn a_level_that_nobody_knows_is_said_and_not_guessed() {
        let hardware = |level: &str| -> WireHardware {
            serde_json::from_value(json!({"maker": "m", "model": "m", "serial": "s", "memory_bytes": 1, "numa_nodes": 1,
                "virtualization": true, "virtual_hardware": 3,
                "cpu": {"maker": "m", "model": "m", "level": level, "sockets": 1, "cores": 2, "threads": 4, "base_mhz": 5}}))
            .unwrap()
        };
        assert_eq!(hardware("v3").read().unwrap().cpu.level, PsabiLevel::V3);
        assert_eq!(hardware("v9").read().unwrap_err(), "CPU level “v9”");
    }

    use proptest::prelude::*;

    /// A whole report as an agent gives it.
    fn whole() -> Value {
        json!({"boot": 1, "seq": 2, "seen": {"epoch": 1, "history": "00000000-0000-4000-8000-000000000001", "fence": 9},
            "software": "1.2", "initiator": "iqn.x", "uplinks": [{"name": "u1", "mac": "02:00", "mbit": 10000, "switch": "s",
            "port": "1"}], "networks": {"guest": {"vlan": 12, "mtu": 1500, "uplinks": ["u1"]}},
            "machines": [{"uuid": "00000000-0000-4000-8000-000000000007", "name": "db", "generation": 3, "vcpus": 2,
            "memory": {"kept": 1, "size": 2, "max": 3}, "video": 4, "disks": [{"size": 5, "thick": true}],
            "nics": [{"mac": "02:00:00:00:00:01", "network": "guest", "addresses": ["10.0.0.1/24"]}],
            "boot": {"image": {"id": "00000000-0000-4000-8000-000000000008"}, "order": ["disk"], "once": "image"},
            "labels": {"a": "b"}, "tier": 1, "virtual_hardware": 3, "guest_key": "k", "power": "on", "phase": "up",
            "as_of": {"boot": 1, "seq": 1}}],
            "volumes": [{"uid": "v", "name": "slab", "capacity": 10, "used": 5, "paths": [{"portal": "p", "uplink": "u1", "up": true}]}],
            "load": {"cpu_mhz": 1, "active": 2, "machines": {}}, "screens": []})
    }

    fn absurd() -> impl Strategy<Value = Value> {
        prop_oneof![
            Just(Value::Null),
            Just(json!(u64::MAX)),
            Just(json!(-1)),
            Just(json!(1e308)),
            Just(json!("")),
            Just(json!([])),
            Just(json!({})),
            Just(json!(true)),
            any::<String>().prop_map(Value::from),
        ]
    }

    /// The n-th value within, counted in order.
    fn nth<'a>(value: &'a mut Value, n: &mut usize) -> Option<&'a mut Value> {
        if *n == 0 {
            return Some(value);
        }
        *n -= 1;
        match value {
            Value::Array(all) => all.iter_mut().find_map(|v| nth(v, n)),
            Value::Object(all) => all.values_mut().find_map(|v| nth(v, n)),
            _ => None,
        }
    }

    proptest! {
        #[test]
        fn a_report_with_absurd_values_is_read_or_refused(changes in prop::collection::vec((0..90usize, absurd()), 0..4)) {
            let mut report = whole();
            for (at, with) in changes {
                let mut n = at;
                if let Some(value) = nth(&mut report, &mut n) {
                    *value = with;
                }
            }
            if let Ok(report) = crate::said::read::<Report>(report.to_string().as_bytes()) {
                let read = report.read();
                prop_assert!(read.machines.iter().all(|m| !m.name.contains('\0') && (1..=4).contains(&m.tier)));
            }
        }
    }

    #[test]
    fn a_whole_report_is_read() {
        let read = crate::said::read::<Report>(whole().to_string().as_bytes())
            .unwrap()
            .read();
        assert_eq!(
            (read.machines.len(), read.volumes.len(), read.uplinks.len()),
            (1, 1, 1)
        );
    }
}
