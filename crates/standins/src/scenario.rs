//! What the simulated world consists of when it starts for the first time.

use crate::rooms::networks::network::HostNet;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Scenario {
    pub hosts: Vec<ScenarioHost>,
    pub volumes: Vec<ScenarioVolume>,
    /// None: one array has all volumes.
    #[serde(default)]
    pub arrays: Vec<ScenarioArray>,
    /// None: two for each site, with every VLAN on every port.
    #[serde(default)]
    pub switches: Vec<ScenarioSwitch>,
    #[serde(default)]
    pub machines: Vec<ScenarioMachine>,
    /// Time sources: name → last two numbers of its address.
    #[serde(default)]
    pub time: BTreeMap<String, String>,
    /// Name servers, by name.
    #[serde(default)]
    pub names: BTreeMap<String, ScenarioNames>,
    /// Load balancers, by name.
    #[serde(default)]
    pub balancers: BTreeMap<String, ScenarioBalancer>,
    /// Servers of buckets, by name.
    #[serde(default)]
    pub buckets: BTreeMap<String, ScenarioBuckets>,
    /// Clusters that were built by hand, under other managers.
    #[serde(default)]
    pub handmade: Vec<Handmade>,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ScenarioBalancer {
    /// Last two numbers of its management address.
    pub address: String,
    /// What it takes orders with.
    pub token: String,
}

/// A server of buckets, which speaks S3.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ScenarioBuckets {
    /// Last two numbers of its address.
    pub address: String,
    /// Its only access key.
    pub access: String,
    pub secret: String,
    pub buckets: Vec<String>,
    /// Buckets that were made with object lock.
    #[serde(default)]
    pub locked: Vec<String>,
}

/// A name server that takes signed changes.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ScenarioNames {
    /// Last two numbers of its address.
    pub address: String,
    pub key: String,
    /// In base64.
    pub secret: String,
    /// Those that it is in charge of, forward and back.
    pub zones: Vec<String>,
}

/// What another manager left: its hosts and volumes stand in the lists of all.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Handmade {
    /// What it calls itself.
    pub manager: String,
    /// The hosts' own.
    pub password: String,
    /// Since its last order.
    pub silent_days: u32,
    /// Its hosts, each with the networks that it has.
    pub hosts: BTreeMap<String, BTreeMap<String, HostNet>>,
    pub volumes: Vec<String>,
    /// What runs beside machines, by host.
    #[serde(default)]
    pub others: BTreeMap<String, Vec<String>>,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ScenarioHost {
    pub name: String,
    /// Last two numbers of its address, such as `1.11`; its controller is at the same with 100 added to the first.
    pub address: String,
    pub maker: String,
    pub model: String,
    pub cpu_maker: String,
    pub cpu_model: String,
    /// `v1` … `v4`
    pub cpu_level: String,
    pub sockets: u32,
    pub cores: u32,
    pub base_mhz: u64,
    pub memory_gib: u64,
    pub software: String,
    /// Identities of the volumes that it sees.
    pub volumes: Vec<String>,
    #[serde(default)]
    pub clock_offset_ms: i64,
    #[serde(default = "yes")]
    pub virtualization: bool,
    /// Nothing is installed, and its power is off.
    #[serde(default)]
    pub bare: bool,
    /// Its own disks beside the one that it starts from, in GB as they are sold.
    #[serde(default)]
    pub disks_gb: Vec<u64>,
    /// What its disks hold.
    #[serde(default)]
    pub leftovers: Vec<String>,
    /// What goes wrong when somebody installs it.
    #[serde(default)]
    pub quirk: crate::Quirk,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ScenarioVolume {
    pub uid: String,
    pub name: String,
    pub capacity_gib: u64,
    /// The array that it lies on, and the pool there.
    #[serde(default)]
    pub array: String,
    #[serde(default)]
    pub pool: String,
    /// What is on it that isn't ours: a foreign file system, or `blank`.
    #[serde(default)]
    pub signature: Option<String>,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ScenarioArray {
    pub name: String,
    pub kind: crate::rooms::storage::array::ArrayKind,
    /// Last two numbers of its management addresses.
    pub addresses: Vec<String>,
    /// Last two numbers of its portals.
    pub portals: Vec<String>,
    /// Pool → GiB.
    pub pools: BTreeMap<String, u64>,
    /// Pool → what the array does for what is made in it.
    #[serde(default)]
    pub classes: BTreeMap<String, crate::Class>,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ScenarioMachine {
    pub name: String,
    pub volume: String,
    /// The host that it runs on; none when it is off.
    #[serde(default)]
    pub host: Option<String>,
    pub vcpus: u32,
    pub memory_gib: u64,
    /// Always kept; its size when not given.
    #[serde(default)]
    pub kept_gib: Option<u64>,
    pub disks_gib: Vec<u64>,
    /// What each of them holds; none: a third to two thirds of it.
    #[serde(default)]
    pub written_mib: Option<u64>,
    #[serde(default)]
    pub labels: BTreeMap<String, String>,
    #[serde(default = "third")]
    pub tier: u8,
    /// Network and address of its card.
    #[serde(default)]
    pub network: Option<String>,
    #[serde(default)]
    pub address: Option<String>,
    #[serde(default)]
    pub apart: Option<String>,
    #[serde(default)]
    pub protected: bool,
    #[serde(default)]
    pub note: String,
    /// How busy it is around noon, in percent of its vCPUs.
    #[serde(default = "busy")]
    pub busy: u32,
    #[serde(default = "yes")]
    pub agent: bool,
    /// Does not stop when asked.
    #[serde(default)]
    pub stubborn: bool,
    /// Its file systems are slow to stand still.
    #[serde(default)]
    pub slow: bool,
    /// Oldest first.
    #[serde(default)]
    pub snapshots: Vec<ScenarioSnapshot>,
    /// It boots with secure boot, and its disk is encrypted with a key in its chip.
    #[serde(default)]
    pub sealed: bool,
    /// Names and GiB of disks that it has with others, on the volume of its own.
    #[serde(default)]
    pub shares_gib: BTreeMap<String, u64>,
    /// Days before the first start at which it was made.
    #[serde(default = "busy")]
    pub age_days: u32,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ScenarioSnapshot {
    pub name: String,
    /// How many days before the first start it was taken.
    pub days: u32,
    #[serde(default)]
    pub note: String,
    /// Somebody went back to it later, and went on from there.
    #[serde(default)]
    pub back: bool,
}

fn yes() -> bool {
    true
}
fn third() -> u8 {
    3
}
fn busy() -> u32 {
    20
}

#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ScenarioSwitch {
    pub name: String,
    /// Last two numbers of its management address.
    pub address: String,
    /// Which uplink of the hosts with the same third number leads here: 1 or 2.
    pub uplink: usize,
    /// Another one that leads here too.
    #[serde(default)]
    pub also: Option<usize>,
    pub vlans: Vec<u16>,
    pub mtu: u32,
    #[serde(default)]
    pub mistakes: Vec<ScenarioMistake>,
}

impl ScenarioSwitch {
    pub(crate) fn uplinks(&self) -> impl Iterator<Item = usize> + '_ {
        [self.uplink].into_iter().chain(self.also)
    }
}

/// A port that is not as the others.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ScenarioMistake {
    pub host: String,
    #[serde(default)]
    pub mtu: Option<u32>,
    #[serde(default)]
    pub without: Vec<u16>,
}

/// A world for measuring: `hosts` hosts in clusters of about 32, with `machines` machines that run.
pub fn large(hosts: u32, machines: u32) -> Scenario {
    let cluster = |n: u32| format!("vol-{:03}", n / 32);
    let volumes = (0..hosts.div_ceil(32))
        .map(|n| ScenarioVolume {
            uid: format!("vol-{n:03}"),
            name: format!("slab-{n:03}"),
            capacity_gib: 400_000,
            array: String::new(),
            pool: String::new(),
            signature: None,
        })
        .collect();
    let host = |n: u32| ScenarioHost {
        name: format!("node-{n:04}"),
        address: format!("{}.{}", 1 + n / 200, 1 + n % 200),
        maker: "Brattholm".into(),
        model: "R2".into(),
        cpu_maker: "Korund".into(),
        cpu_model: "K64".into(),
        cpu_level: "v3".into(),
        sockets: 2,
        cores: 64,
        base_mhz: 2600,
        memory_gib: 768,
        software: "4.2.1".into(),
        volumes: vec![cluster(n)],
        clock_offset_ms: 0,
        virtualization: true,
        bare: false,
        disks_gb: vec![],
        leftovers: vec![],
        quirk: crate::Quirk::None,
    };
    let machine = |n: u32| ScenarioMachine {
        name: format!("load-{n:05}"),
        volume: cluster(n % hosts),
        host: Some(format!("node-{:04}", n % hosts)),
        vcpus: 2 + n % 3 * 2,
        memory_gib: 8 + u64::from(n % 4) * 8,
        kept_gib: None,
        disks_gib: vec![40],
        written_mib: None,
        labels: BTreeMap::from([("app".into(), format!("app-{}", n % 97))]),
        tier: 1 + u8::try_from(n % 4).unwrap_or(0),
        network: None,
        address: None,
        apart: None,
        protected: false,
        note: String::new(),
        busy: 10 + n % 50,
        agent: true,
        stubborn: false,
        slow: false,
        snapshots: vec![],
        shares_gib: BTreeMap::new(),
        sealed: false,
        age_days: 90,
    };
    Scenario {
        hosts: (0..hosts).map(host).collect(),
        volumes,
        arrays: vec![],
        switches: vec![],
        machines: (0..machines).map(machine).collect(),
        time: BTreeMap::new(),
        names: BTreeMap::new(),
        balancers: BTreeMap::new(),
        buckets: BTreeMap::new(),
        handmade: vec![],
    }
}
