//! Small estates written as text, for tests that read like the domain.
//!
//! ```text
//! cluster eider                      # id is its place; volume of 10 TiB
//! host 1 512 [cores=32] [numa=2] [maker=Korund] [level=v3] [hardware=3] [paths=2] [down] [loose]
//!                                    # GiB installed; in the last cluster unless `loose`
//! machine 7 db 16 on 1 [kept=8] [vcpus=4] [hardware=3] [tier=1] [apart=g] [deleted] [protected]
//! [unprotected] [after=8]
//! machine 8 web 16 off
//! ```

use crate::{
    estate::{
        Access, Array, ArrayCondition, ArrayKind, Change, Cluster, Condition, Cpu, Demand, Disk,
        Estate, Fact, Hardware, Host, Machine, MachineState, Memory, NetRole, Network, Nic, Path,
        Pen, Provisioning, PsabiLevel, Site, Volume, Wanted,
    },
    ids::{
        ArrayId, ClusterId, HostId, MachineId, NetworkId, Revision, RunId, SecretRef, SiteId,
        VolumeId,
    },
    moment::Moment,
    observe::MachineReport,
    permits::{Permits, Role, Who},
    road::{Input, Tale, begin, turn},
    rooms::{
        AcceptedPlan, Event, Plans, World, absorb_all,
        machines::{CreateMachines, NewDisk, NewNic},
    },
    runs::Runs,
    text::Note,
    units::{Bytes, Mhz},
    view::View,
};
use std::{collections::BTreeMap, sync::Arc};

/// A fixture: the view, an admin's permits and a moment.
pub struct Small {
    pub view: View,
    pub plans: Plans,
    pub permits: Permits,
    pub now: Moment,
}

/// An array that answers, with nothing on it.
pub fn array(id: ArrayId, name: &str, site: SiteId) -> Array {
    Array {
        id,
        name: name.into(),
        site,
        kind: ArrayKind::Block,
        controllers: vec![],
        user: String::new(),
        key: None,
        maker: String::new(),
        model: String::new(),
        serial: String::new(),
        pools: vec![],
        portals: vec![],
        condition: ArrayCondition::Steady,
        note: String::new(),
        left: vec![],
        found: BTreeMap::new(),
        served: BTreeMap::new(),
    }
}

/// The estate alone, without runs.
pub trait Folding {
    fn absorb(&mut self, event: &Event) -> Change;
    fn absorb_all<'a>(&mut self, events: impl IntoIterator<Item = &'a Event>) -> Change {
        let mut change = Change::default();
        for event in events {
            change.merge(self.absorb(event));
        }
        change
    }
}

impl Folding for Estate {
    fn absorb(&mut self, event: &Event) -> Change {
        let mut pen = Pen::on(self);
        event.absorb(&mut pen);
        pen.done()
    }
}

impl Small {
    pub fn world(&self) -> World {
        World {
            estate: Estate::clone(&self.view.estate),
            runs: Runs::clone(&self.view.runs),
            plans: self.plans.clone(),
        }
    }
    /// Folds events in, as one batch.
    pub fn fold(&mut self, events: &[Event]) {
        let mut world = self.world();
        absorb_all(&mut world, events);
        world.estate.revision = Revision(world.estate.revision.0 + 1);
        self.view = View {
            runs: Arc::new(world.runs),
            ..self.view.with(world.estate)
        };
        self.plans = world.plans;
    }
    /// Begins a run, by Zastrugi itself.
    pub fn begin(&mut self, plan: AcceptedPlan) -> (RunId, Vec<Event>) {
        let (by, request) = (Who::itself(), uuid::Uuid::nil());
        let (run, events) = begin(&self.view, &self.plans, plan, by, request, self.now);
        self.fold(&events);
        (run, events)
    }
    /// Tells a run something.
    pub fn tell(&mut self, run: RunId, input: Input) -> Vec<Event> {
        let events = turn(&self.view, &self.plans, run, input, self.now);
        self.fold(&events);
        events
    }
    /// Changes the estate.
    pub fn alter(&mut self, change: impl FnOnce(&mut Estate)) {
        let mut estate = Estate::clone(&self.view.estate);
        change(&mut estate);
        self.view = self.view.with(estate);
    }
    /// Changes a host.
    pub fn alter_host(&mut self, id: u64, change: impl FnOnce(&mut Host)) {
        self.alter(|estate| {
            let mut host = Host::clone(&estate.hosts[&HostId(id)]);
            change(&mut host);
            estate.put(Fact::Host(Arc::new(host)));
        });
    }
}

/// Reads the text above.
///
/// # Panics
/// When a line can't be read: a fixture with a slip is a slip of the test.
#[expect(clippy::panic, clippy::unwrap_used, reason = "fixtures of tests")]
pub fn read(text: &str) -> Small {
    let mut estate = Estate::from_facts(Revision(1), [Fact::Meta(1000)]);
    estate.put(Fact::Site(Arc::new(Site {
        id: SiteId(900),
        name: "Quayside".into(),
    })));
    let mut cluster: Option<Cluster> = None;
    for line in text.lines().map(str::trim).filter(|l| !l.is_empty()) {
        let words: Vec<&str> = line.split_whitespace().collect();
        let opts: BTreeMap<&str, &str> = words
            .iter()
            .map(|w| w.split_once('=').unwrap_or((w, "")))
            .collect();
        match words[0] {
            "cluster" => {
                cluster
                    .take()
                    .into_iter()
                    .for_each(|c| estate.put(Fact::Cluster(Arc::new(c))));
                let n = 901 + u64::try_from(estate.clusters.len()).unwrap();
                let volume = volume(n + 50, ClusterId(n));
                cluster = Some(a_cluster(n, words[1], &opts));
                estate.put(Fact::Volume(Arc::new(volume)));
            }
            "host" => {
                let mut host = host(words[1].parse().unwrap(), words[2].parse().unwrap(), &opts);
                if let (Some(c), false) = (cluster.as_mut(), opts.contains_key("loose")) {
                    host.cluster = Some(c.id);
                    let up = opts.get("paths").map_or(2, |n| n.parse().unwrap());
                    host.mounts.insert(VolumeId(c.id.0 + 50), paths(up));
                    c.hosts.insert(host.id);
                }
                estate.put(Fact::Host(Arc::new(host)));
            }
            "machine" => {
                let c = cluster.as_ref().unwrap();
                estate.put(Fact::Machine(Arc::new(machine(&words, &opts, c))));
            }
            other => panic!("“{other}” is no word of a fixture"),
        }
    }
    cluster
        .into_iter()
        .for_each(|c| estate.put(Fact::Cluster(Arc::new(c))));
    Small {
        view: View::of(estate),
        plans: Plans::new(),
        permits: Permits::of(Role::Admin),
        now: Moment(1_000_000),
    }
}

/// Two paths, of which `up` work.
pub fn paths(up: usize) -> Vec<Path> {
    let path = |n: usize| Path {
        portal: format!("10.0.9.{}:3260", n + 1),
        uplink: format!("storage-{}", n + 1),
        up: n < up,
    };
    (0..2).map(path).collect()
}

fn volume(n: u64, cluster: ClusterId) -> Volume {
    Volume {
        id: VolumeId(n),
        uid: format!("vol-{n}"),
        name: format!("slab-{n}"),
        cluster: Some(cluster),
        capacity: Bytes::gib(10_240),
        used: Bytes::gib(100),
        backing: None,
        pooled: None,
        made: false,
        intended: None,
        ready: true,
        qualities: Default::default(),
        note: String::new(),
        unattached: Default::default(),
        strays: Default::default(),
        shared: Default::default(),
    }
}

/// A network of the first cluster for guests, in VLAN 20, that is set up.
pub fn network(id: NetworkId, name: &str) -> Network {
    Network {
        id,
        name: name.into(),
        cluster: ClusterId(901),
        role: NetRole::Guest,
        vlan: Some(20),
        mtu: 1500,
        subnets: vec![],
        uplinks: Default::default(),
        reserved: Default::default(),
        released: Default::default(),
        ready: true,
        note: String::new(),
    }
}

fn a_cluster(n: u64, name: &str, opts: &BTreeMap<&str, &str>) -> Cluster {
    Cluster {
        id: ClusterId(n),
        name: name.into(),
        site: SiteId(900),
        hosts: Default::default(),
        cpu_maker: "Korund".into(),
        cpu_level: PsabiLevel::V2,
        demand: Demand {
            failures: u32::from(!opts.contains_key("careless")),
            domains: [false; 3],
            enforced: opts.contains_key("enforced"),
        },
        kind: Default::default(),
        rules: vec![],
        recovers: true,
        time: vec![],
        dns: None,
        keeping: None,
        ready: true,
        note: String::new(),
    }
}

#[expect(clippy::unwrap_used, reason = "fixtures of tests")]
fn level(word: &str) -> PsabiLevel {
    PsabiLevel::ALL
        .into_iter()
        .find(|l| l.word() == word)
        .unwrap()
}

/// A host with 32 cores unless told otherwise.
#[expect(clippy::unwrap_used, reason = "fixtures of tests")]
pub fn host(id: u64, gib: u64, opts: &BTreeMap<&str, &str>) -> Host {
    let cores: u32 = opts.get("cores").map_or(32, |c| c.parse().unwrap());
    let condition = if opts.contains_key("down") {
        Condition::Lost {
            since: Moment(0),
            why: "silent".into(),
        }
    } else {
        Condition::Steady
    };
    Host {
        id: HostId(id),
        name: format!("h{id}"),
        site: SiteId(900),
        cluster: None,
        access: Access {
            address: format!("10.0.0.{id}:7443"),
            pin: format!("pin{id}"),
            key: Some(SecretRef(uuid::Uuid::nil())),
        },
        bmc: None,
        hardware: Hardware {
            maker: "Brattholm".into(),
            model: "R2".into(),
            serial: format!("S{id}"),
            cpu: Cpu {
                maker: opts.get("maker").unwrap_or(&"Korund").to_string(),
                model: "K64".into(),
                sockets: 2,
                cores,
                threads: cores * 2,
                base: Mhz(2500),
                level: opts.get("level").map_or(PsabiLevel::V3, |l| level(l)),
            },
            memory: Bytes::gib(gib),
            numa_nodes: opts.get("numa").map_or(1, |n| n.parse().unwrap()),
            virtualization: true,
            virtual_hardware: opts.get("hardware").map_or(3, |n| n.parse().unwrap()),
        },
        software: "4.2.1".into(),
        disks: vec![],
        condition,
        seen: (1, 1),
        initiator: format!("iqn.2026-01.net.example:h{id}"),
        mounts: BTreeMap::new(),
        uplinks: vec![],
        networks: BTreeMap::new(),
        labels: BTreeMap::new(),
        note: String::new(),
        watchdog: false,
        fencing: None,
        entered: None,
        maintenance: None,
        installing: None,
        keepers: Default::default(),
    }
}

#[expect(clippy::unwrap_used, reason = "fixtures of tests")]
fn machine(words: &[&str], opts: &BTreeMap<&str, &str>, cluster: &Cluster) -> Machine {
    let id: u64 = words[1].parse().unwrap();
    let size = Bytes::gib(words[3].parse().unwrap());
    let host = (words[4] == "on").then(|| HostId(words[5].parse().unwrap()));
    let (state, wanted) = match host {
        Some(_) => (MachineState::Running { guest: true }, Wanted::On),
        None => (MachineState::Off, Wanted::Off),
    };
    let label = opts.get("label").map(|l| {
        let (key, value) = l.split_once(':').unwrap_or((l, ""));
        (key.to_owned(), value.to_owned())
    });
    Machine {
        id: MachineId(id),
        uuid: uuid::Uuid::from_u128(u128::from(id)),
        name: words[2].into(),
        cluster: Some(cluster.id),
        host,
        arriving: None,
        state,
        wanted,
        vcpus: opts.get("vcpus").map_or(2, |v| v.parse().unwrap()),
        memory: Memory {
            kept: opts
                .get("kept")
                .map_or(size, |k| Bytes::gib(k.parse().unwrap())),
            size,
            max: size,
        },
        video: Bytes::mib(16),
        disks: vec![Disk {
            key: crate::ids::draw_uuid(0, id, 0),
            size: Bytes::gib(40),
            provisioning: Provisioning::Thin,
            volume: VolumeId(cluster.id.0 + 50),
        }],
        nics: vec![Nic {
            mac: format!("02:00:00:00:{:02x}:{:02x}", id / 256 % 256, id % 256),
            network: None,
            addresses: vec![],
        }],
        boot: Default::default(),
        labels: label.into_iter().collect(),
        tier: opts.get("tier").map_or(3, |t| t.parse().unwrap()),
        restarts: !opts.contains_key("unprotected"),
        after: opts.get("after").map(|m| MachineId(m.parse().unwrap())),
        carries: opts.contains_key("carries"),
        protected: opts.contains_key("protected"),
        apart: opts.get("apart").map(|g| (*g).to_owned()),
        generation: u64::from(host.is_some()),
        as_of: None,
        generation_id: None,
        guest_key: None,
        deleted: opts.contains_key("deleted").then_some(Moment(1000)),
        note: String::new(),
        found_as: None,
        entered: None,
        fell: None,
        virtual_hardware: opts.get("hardware").map_or(3, |n| n.parse().unwrap()),
        created: Moment(0),
        moved: None,
        vcpus_max: 0,
        now: None,
        grows: Default::default(),
        snapshots: Default::default(),
        parent: None,
        made_from: String::new(),
        must: vec![],
        proves: None,
        replica: None,
        crossed: None,
        was: vec![],
        points: vec![],
        first_boot: None,
        properties: Default::default(),
        shares: vec![],
        pledged: None,
        firmware: None,
        of_pool: None,
        console_lock: None,
    }
}

/// What somebody asks for who wants `count` machines of so many GiB: one vCPU, a thin disk of 4 GiB, a card on no network,
/// powered on when made.
pub fn machines(pattern: &str, count: u32, cluster: Option<ClusterId>, gib: u64) -> CreateMachines {
    let size = Bytes::gib(gib);
    CreateMachines {
        pledge: None,
        pattern: pattern.into(),
        count,
        cluster,
        qualities: Default::default(),
        volume: None,
        host: None,
        vcpus: 1,
        memory: Memory {
            kept: size,
            size,
            max: size,
        },
        disks: vec![NewDisk {
            size: Bytes::gib(4),
            provisioning: Provisioning::Thin,
        }],
        nics: vec![NewNic {
            network: None,
            address: None,
        }],
        copied: None,
        image: None,
        first_boot: None,
        document: None,
        taken: None,
        firmware: Default::default(),
        labels: BTreeMap::new(),
        tier: 3,
        protected: false,
        apart: false,
        note: Note::default(),
        start: true,
    }
}

/// A machine of 8 GiB as its host reports it: up, and nothing more is said of it.
pub fn reported(uuid: uuid::Uuid, name: &str, generation: u64) -> MachineReport {
    let size = Bytes::gib(8);
    MachineReport {
        uuid,
        name: name.into(),
        state: MachineState::Running { guest: true },
        generation,
        vcpus: 2,
        memory: Memory {
            kept: size,
            size,
            max: size,
        },
        video: Bytes::ZERO,
        disks: vec![],
        volume: String::new(),
        nics: vec![],
        boot: None,
        labels: BTreeMap::new(),
        tier: 3,
        apart: None,
        protected: false,
        first_boot: None,
        generation_id: None,
        guest_key: None,
        note: String::new(),
        snapshots: None,
        shares: None,
        firmware: None,
        vcpus_max: 0,
        now: None,
        grows: None,
        virtual_hardware: 3,
        created: Moment(0),
    }
}

/// The text of 1,000 hosts in 32 clusters with so many machines, of `gib` and up to 48 GiB more: a tenth of them kept apart.
pub fn large(machines: usize, gib: usize) -> String {
    let mut lines = Vec::new();
    for c in 0..32 {
        lines.push(format!("cluster c{c}"));
        let hosts = (0..1000).filter(|h| h % 32 == c);
        lines.extend(hosts.map(|h| format!("host {} 768 cores=64", h + 1)));
        lines.extend((0..machines).filter(|m| m % 1000 % 32 == c).map(|m| {
            let (id, host, size) = (m + 2001, m % 1000 + 1, gib + (m + m / 1000) % 5 * 12);
            let (vcpus, tier, app) = (2 + m % 3 * 2, 1 + m % 4, m % 97);
            let apart = match m % 10 {
                0 => format!(" apart=g{}", m / 10 % 200),
                _ => String::new(),
            };
            format!("machine {id} m{m} {size} on {host} vcpus={vcpus} tier={tier} label=app:a{app}{apart}")
        }));
    }
    lines.join("\n")
}
