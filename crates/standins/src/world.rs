//! The state of all devices, with the virtual clock, the faults, and the files it is kept in.

use crate::{
    fault::{Fault, FaultKind},
    guest::{Guest, hash},
    host::{Cpu, Host, Identity},
    network::{Nic, Port, Switch, Uplink},
    scenario::{Scenario, ScenarioArray, ScenarioHost, ScenarioMachine, ScenarioSwitch},
    storage::{Array, ArrayKind, Controller, Lun, Portal},
    volume::{Disk, Lease, Memory, OURS, Record, Temper, Volume},
};
use serde::{Serialize, de::DeserializeOwned};
use std::{
    collections::{BTreeMap, BTreeSet},
    fs, io,
    path::{Path, PathBuf},
    sync::{Mutex, MutexGuard, PoisonError},
    time::{Instant, SystemTime, UNIX_EPOCH},
};

pub struct World {
    state: Mutex<State>,
    faults: Mutex<Vec<Fault>>,
    dir: PathBuf,
    speed: f64,
    began: Instant,
    began_at: i64,
}

#[derive(Default)]
pub(crate) struct State {
    pub(crate) hosts: BTreeMap<String, Host>,
    pub(crate) volumes: BTreeMap<String, Volume>,
    pub(crate) arrays: BTreeMap<String, Array>,
    pub(crate) switches: BTreeMap<String, Switch>,
    /// Addresses that answer and belong to nobody we know, with what they call themselves.
    pub(crate) squatters: BTreeMap<String, String>,
}

const GIB: u64 = 1 << 30;

impl World {
    /// Opens the world kept in `dir`, or makes it from `scenario`. `net` is the first two numbers of every address.
    ///
    /// # Errors
    /// When the files can't be read or written.
    pub fn open(dir: &Path, scenario: &Scenario, net: &str, speed: f64) -> io::Result<World> {
        fs::create_dir_all(dir.join("hosts"))?;
        fs::create_dir_all(dir.join("volumes"))?;
        fs::create_dir_all(dir.join("arrays"))?;
        fs::create_dir_all(dir.join("switches"))?;
        let mut state = State::default();
        for volume in read_all::<Volume>(&dir.join("volumes"))? {
            state.volumes.insert(volume.uid.clone(), volume);
        }
        for host in read_all::<Host>(&dir.join("hosts"))? {
            state.hosts.insert(host.name.clone(), host);
        }
        for array in read_all::<Array>(&dir.join("arrays"))? {
            state.arrays.insert(array.name.clone(), array);
        }
        for switch in read_all::<Switch>(&dir.join("switches"))? {
            state.switches.insert(switch.name.clone(), switch);
        }
        let fresh = state.hosts.is_empty();
        let began_at = wall();
        let world = World {
            state: Mutex::new(state),
            faults: Mutex::new(Vec::new()),
            dir: dir.into(),
            speed,
            began: Instant::now(),
            began_at,
        };
        if fresh {
            world.make(scenario, net)?;
        }
        Ok(world)
    }

    fn make(&self, scenario: &Scenario, net: &str) -> io::Result<()> {
        let mut state = self.lock();
        make_arrays(&mut state, scenario, net)?;
        for host in &scenario.hosts {
            let made = make_host(host, net)?;
            for uid in &host.volumes {
                offer(&mut state, &made.iqn, uid);
            }
            state.hosts.insert(host.name.clone(), made);
            log_in_everywhere(&mut state, &host.name);
        }
        make_switches(&mut state, scenario, net)?;
        for machine in &scenario.machines {
            place(&mut state, machine, self.now());
        }
        let names: Vec<String> = state.hosts.keys().cloned().collect();
        let volumes: Vec<String> = state.volumes.keys().cloned().collect();
        for name in names {
            self.save_host(&state, &name);
        }
        for uid in volumes {
            self.save_volume(&state, &uid);
        }
        let arrays: Vec<String> = state.arrays.keys().cloned().collect();
        for name in arrays {
            self.save_array(&state, &name);
        }
        let switches: Vec<String> = state.switches.keys().cloned().collect();
        for name in switches {
            self.save_switch(&state, &name);
        }
        Ok(())
    }

    pub(crate) fn lock(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Virtual milliseconds since 1970.
    pub(crate) fn now(&self) -> i64 {
        let passed = self.began.elapsed().as_secs_f64() * 1000.0 * self.speed;
        self.began_at + whole(passed)
    }

    pub(crate) fn save_host(&self, state: &State, name: &str) {
        if let Some(host) = state.hosts.get(name) {
            self.save(&self.dir.join("hosts").join(format!("{name}.json")), host);
        }
    }
    pub(crate) fn save_array(&self, state: &State, name: &str) {
        if let Some(array) = state.arrays.get(name) {
            self.save(&self.dir.join("arrays").join(format!("{name}.json")), array);
        }
    }
    pub(crate) fn save_switch(&self, state: &State, name: &str) {
        if let Some(switch) = state.switches.get(name) {
            self.save(
                &self.dir.join("switches").join(format!("{name}.json")),
                switch,
            );
        }
    }
    pub(crate) fn save_volume(&self, state: &State, uid: &str) {
        if let Some(volume) = state.volumes.get(uid) {
            self.save(
                &self.dir.join("volumes").join(format!("{uid}.json")),
                volume,
            );
        }
    }
    /// Written beside and renamed, so that a killed process leaves the old or the new state, never half of one.
    fn save<T: Serialize>(&self, path: &Path, value: &T) {
        let fresh = path.with_extension("new");
        let done = serde_json::to_vec(value)
            .map_err(io::Error::other)
            .and_then(|bytes| fs::write(&fresh, bytes))
            .and_then(|()| fs::rename(&fresh, path));
        if let Err(error) = done {
            tracing::error!(%error, path = %path.display(), "a stand-in's state can't be written");
        }
    }

    pub(crate) fn is_on(&self, host: &str) -> bool {
        self.lock().hosts.get(host).is_some_and(|h| h.power)
    }

    /// Adds faults for the next matching calls.
    pub fn add_fault(&self, fault: Fault) {
        self.faults
            .lock()
            .unwrap_or_else(PoisonError::into_inner)
            .push(fault);
    }
    pub fn clear_faults(&self) {
        self.faults
            .lock()
            .unwrap_or_else(PoisonError::into_inner)
            .clear();
    }
    pub(crate) fn next_fault(&self, device: &str, call: &str) -> Option<FaultKind> {
        let mut faults = self.faults.lock().unwrap_or_else(PoisonError::into_inner);
        let found = faults
            .iter_mut()
            .find(|f| f.times > 0 && f.device == device && call.contains(&f.call))?;
        found.times -= 1;
        let kind = found.kind;
        faults.retain(|f| f.times > 0);
        Some(kind)
    }

    /// How often each step key had an effect, over all devices.
    pub fn effects(&self) -> BTreeMap<String, u32> {
        let mut all = BTreeMap::new();
        let state = self.lock();
        let at_hosts = state.hosts.values().map(|h| &h.effects);
        let at_arrays = state.arrays.values().map(|a| &a.effects);
        for effects in at_hosts.chain(at_arrays) {
            for (key, n) in effects {
                *all.entry(key.clone()).or_insert(0) += n;
            }
        }
        all
    }
    /// Writes that no machine should ever have made.
    pub fn violations(&self) -> Vec<String> {
        self.lock()
            .volumes
            .values()
            .flat_map(|v| v.violations.clone())
            .collect()
    }
    /// Addresses (`ip:port`) of the host agents, by name.
    pub fn agents(&self) -> BTreeMap<String, String> {
        self.lock()
            .hosts
            .values()
            .map(|h| (h.name.clone(), h.address.clone()))
            .collect()
    }
    /// Switches a host on or off, as its power cord would; what ran on it is gone.
    pub fn power(&self, name: &str, on: bool) {
        let mut state = self.lock();
        let State { hosts, volumes, .. } = &mut *state;
        let Some(host) = hosts.get_mut(name) else {
            return;
        };
        if on && !host.power {
            host.boot += 1;
        }
        host.power = on;
        let lost: Vec<(String, Guest)> = std::mem::take(&mut host.guests).into_iter().collect();
        for (uuid, guest) in lost {
            if let Some(volume) = volumes.get_mut(&guest.volume) {
                volume.drop_lease(&uuid);
            }
        }
        let touched: Vec<String> = volumes.keys().cloned().collect();
        self.save_host(&state, name);
        for uid in touched {
            self.save_volume(&state, &uid);
        }
    }
    /// Changes a host's certificate, as a stranger in its place would have another.
    ///
    /// # Errors
    /// When no certificate can be made.
    pub fn swap_identity(&self, name: &str) -> io::Result<()> {
        let mut state = self.lock();
        if let Some(host) = state.hosts.get_mut(name) {
            host.identity = identity(name)?;
        }
        self.save_host(&state, name);
        Ok(())
    }
}

pub(crate) fn wall() -> i64 {
    let since = SystemTime::now()
        .duration_since(UNIX_EPOCH)
        .unwrap_or_default();
    i64::try_from(since.as_millis()).unwrap_or(0)
}

#[expect(clippy::cast_possible_truncation, reason = "`as` saturates")]
fn whole(figure: f64) -> i64 {
    figure as i64
}

fn read_all<T: DeserializeOwned>(dir: &Path) -> io::Result<Vec<T>> {
    let mut all = Vec::new();
    for entry in fs::read_dir(dir)? {
        let path = entry?.path();
        if path.extension().is_some_and(|e| e == "json") {
            all.push(serde_json::from_slice(&fs::read(&path)?)?);
        }
    }
    Ok(all)
}

fn identity(name: &str) -> io::Result<Identity> {
    let made = || {
        let key = rcgen::KeyPair::generate()?;
        let certificate =
            rcgen::CertificateParams::new(vec![name.to_owned()])?.self_signed(&key)?;
        Ok::<_, rcgen::Error>(Identity {
            certificate: certificate.pem(),
            key: key.serialize_pem(),
        })
    };
    made().map_err(io::Error::other)
}

/// A host's name as an initiator (RFC 3720, section 3.2.6.3.1).
fn iqn(host: &str) -> String {
    format!("iqn.2026-01.net.example.skarholm:{host}")
}

fn make_arrays(state: &mut State, scenario: &Scenario, net: &str) -> io::Result<()> {
    let all: u64 = scenario.volumes.iter().map(|v| v.capacity_gib).sum();
    let shelf = ScenarioArray {
        name: "shelf".into(),
        kind: ArrayKind::Block,
        addresses: vec!["250.1".into(), "250.2".into()],
        portals: vec!["250.11".into(), "250.12".into()],
        pools: BTreeMap::from([("main".into(), all + 10_000)]),
    };
    let alone = [shelf];
    let arrays = if scenario.arrays.is_empty() {
        &alone[..]
    } else {
        &scenario.arrays
    };
    for array in arrays {
        let made = make_array(array, net)?;
        state.arrays.insert(array.name.clone(), made);
    }
    for volume in &scenario.volumes {
        let signature = match volume.signature.as_deref() {
            None => Some(OURS.to_owned()),
            Some("blank") => None,
            Some(other) => Some(other.to_owned()),
        };
        let capacity = volume.capacity_gib * GIB;
        let made = Volume {
            uid: volume.uid.clone(),
            name: volume.name.clone(),
            capacity,
            signature,
            ..Volume::default()
        };
        state.volumes.insert(volume.uid.clone(), made);
        let name = if volume.array.is_empty() {
            &arrays[0].name
        } else {
            &volume.array
        };
        if let Some(array) = state.arrays.get_mut(name) {
            let pool = if volume.pool.is_empty() {
                array.pools.keys().next().cloned().unwrap_or_default()
            } else {
                volume.pool.clone()
            };
            let id = array.number();
            let lun = Lun {
                name: volume.name.clone(),
                uid: volume.uid.clone(),
                pool,
                capacity,
                thin: true,
                description: String::new(),
            };
            array.luns.insert(id, lun);
        }
    }
    Ok(())
}

fn make_array(array: &ScenarioArray, net: &str) -> io::Result<Array> {
    let controller = |last: &String| {
        Ok(Controller {
            address: format!("{net}.{last}:8443"),
            identity: identity(&array.name)?,
            up: true,
        })
    };
    let port = match array.kind {
        ArrayKind::Block => 3260,
        ArrayKind::File => 2049,
    };
    Ok(Array {
        name: array.name.clone(),
        kind: array.kind,
        serial: format!("TS{:010X}", hash(&array.name) & 0xff_ffff_ffff),
        controllers: array
            .addresses
            .iter()
            .map(controller)
            .collect::<io::Result<_>>()?,
        password: "first-light".into(),
        portals: array
            .portals
            .iter()
            .map(|last| Portal {
                address: format!("{net}.{last}:{port}"),
                up: true,
            })
            .collect(),
        pools: array
            .pools
            .iter()
            .map(|(n, g)| (n.clone(), g * GIB))
            .collect(),
        luns: BTreeMap::new(),
        initiators: BTreeMap::new(),
        connections: BTreeMap::new(),
        effects: BTreeMap::new(),
        next: 0,
    })
}

/// Lets an initiator reach a volume, as it was before anybody came.
fn offer(state: &mut State, iqn: &str, uid: &str) {
    for array in state.arrays.values_mut() {
        if let Some(id) = array.lun_with(uid).map(|(id, _)| id.clone()) {
            array.map(&id, iqn);
        }
    }
}

/// A host that something is offered to is logged in on all portals of that array.
fn log_in_everywhere(state: &mut State, host: &str) {
    let State { hosts, arrays, .. } = state;
    let Some(host) = hosts.get_mut(host) else {
        return;
    };
    for array in arrays.values() {
        if array.luns.keys().any(|lun| array.maps(lun, &host.iqn)) {
            host.logins
                .extend(array.portals.iter().map(|p| p.address.clone()));
        }
    }
}

fn make_host(host: &ScenarioHost, net: &str) -> io::Result<Host> {
    let (third, fourth) = host.address.split_once('.').unwrap_or((&host.address, "1"));
    let controllers: u32 = third.parse::<u32>().unwrap_or(1) + 100;
    Ok(Host {
        name: host.name.clone(),
        address: format!("{net}.{third}.{fourth}:7443"),
        bmc_address: format!("{net}.{controllers}.{fourth}:8443"),
        maker: host.maker.clone(),
        model: host.model.clone(),
        serial: format!("SN{:010X}", hash(&host.name) & 0xff_ffff_ffff),
        cpu: Cpu {
            maker: host.cpu_maker.clone(),
            model: host.cpu_model.clone(),
            level: host.cpu_level.clone(),
            sockets: host.sockets,
            cores: host.cores,
            base_mhz: host.base_mhz,
        },
        memory: host.memory_gib * GIB,
        software: host.software.clone(),
        virtualization: host.virtualization,
        clock_offset_ms: host.clock_offset_ms,
        iqn: iqn(&host.name),
        uplinks: Vec::new(),
        networks: BTreeMap::new(),
        logins: BTreeSet::new(),
        cut: BTreeSet::new(),
        identity: identity(&host.name)?,
        bmc_identity: identity(&format!("{}-bmc", host.name))?,
        password: "first-light".into(),
        wrong_passwords: 0,
        claimed_with: None,
        owner: None,
        bmc_password: "first-light".into(),
        power: true,
        boot: 1,
        cluster: None,
        mounted: host.volumes.iter().cloned().collect(),
        guests: BTreeMap::new(),
        answers: BTreeMap::new(),
        effects: BTreeMap::new(),
        fence: 0,
    })
}

fn place(state: &mut State, machine: &ScenarioMachine, now: i64) {
    let seed = hash(&machine.name);
    let uuid = uuid::Builder::from_random_bytes(
        ((u128::from(seed) << 64) | u128::from(hash(&seed.to_string()))).to_be_bytes(),
    )
    .into_uuid()
    .to_string();
    let size = machine.memory_gib * GIB;
    let b = seed.to_be_bytes();
    let record = Record {
        name: machine.name.clone(),
        vcpus: machine.vcpus,
        memory: Memory {
            kept: machine.kept_gib.map_or(size, |g| g * GIB),
            size,
            max: size,
        },
        video: 16 << 20,
        disks: machine
            .disks_gib
            .iter()
            .map(|g| Disk {
                size: g * GIB,
                thick: false,
                written: g * GIB / 100 * (30 + seed % 40),
            })
            .collect(),
        nics: vec![Nic {
            mac: format!("02:5a:{:02x}:{:02x}:{:02x}:{:02x}", b[2], b[3], b[4], b[5]),
            network: machine.network.clone(),
            addresses: machine.address.clone().into_iter().collect(),
        }],
        seed: None,
        labels: machine.labels.clone(),
        tier: machine.tier,
        apart: machine.apart.clone(),
        protected: machine.protected,
        note: machine.note.clone(),
        virtual_hardware: 3,
        guest_key: format!(
            "{:016x}{:016x}{:016x}{:016x}",
            seed,
            !seed,
            seed.rotate_left(9),
            seed.rotate_left(23)
        ),
        created: now - i64::from(machine.age_days) * 86_400_000,
        deleted: false,
        lease: Lease {
            generation: u64::from(machine.host.is_some()),
            holder: machine.host.clone(),
        },
        temper: Temper {
            busy: machine.busy,
            agent: machine.agent,
            stubborn: machine.stubborn,
        },
    };
    if let Some(volume) = state.volumes.get_mut(&machine.volume) {
        volume.records.insert(uuid.clone(), record);
    }
    if let Some(host) = machine.host.as_ref().and_then(|h| state.hosts.get_mut(h)) {
        let started = now - i64::from(machine.age_days) * 86_400_000;
        host.guests.insert(
            uuid,
            Guest {
                volume: machine.volume.clone(),
                generation: 1,
                started,
                stopping: None,
                paused: None,
                unwritten: 0,
            },
        );
    }
}

/// Every host's two uplinks lead to the two switches of its site.
fn make_switches(state: &mut State, scenario: &Scenario, net: &str) -> io::Result<()> {
    let third = |address: &str| address.split('.').next().unwrap_or("1").to_owned();
    let plain: Vec<ScenarioSwitch> = scenario
        .hosts
        .iter()
        .map(|h| third(&h.address))
        .collect::<BTreeSet<_>>()
        .into_iter()
        .flat_map(|site| {
            [1, 2].map(|n| ScenarioSwitch {
                name: format!("switch-{site}-{n}"),
                address: format!("{site}.{}", 220 + n),
                uplink: n,
                vlans: (2..=400).collect(),
                mtu: 9216,
                mistakes: vec![],
            })
        })
        .collect();
    let switches = if scenario.switches.is_empty() {
        &plain
    } else {
        &scenario.switches
    };
    for made in switches {
        let site = third(&made.address);
        let mut ports = BTreeMap::new();
        for (i, host) in scenario.hosts.iter().enumerate() {
            if third(&host.address) != site {
                continue;
            }
            let (name, uplink) = (
                format!("eth{:03}", i + 1),
                format!("uplink-{}", made.uplink),
            );
            let mistake = made.mistakes.iter().find(|m| m.host == host.name);
            let without = mistake.map(|m| m.without.as_slice()).unwrap_or_default();
            let tagged = made.vlans.iter().filter(|v| !without.contains(v)).copied();
            let port = Port {
                up: true,
                mtu: mistake.and_then(|m| m.mtu).unwrap_or(made.mtu),
                untagged: 1,
                tagged: tagged.collect(),
                neighbour: (host.name.clone(), uplink.clone()),
            };
            if let Some(host) = state.hosts.get_mut(&host.name) {
                let b = hash(&format!("{}{uplink}", host.name)).to_be_bytes();
                host.uplinks.push(Uplink {
                    name: uplink,
                    mac: format!(
                        "06:{:02x}:{:02x}:{:02x}:{:02x}:{:02x}",
                        b[0], b[1], b[2], b[3], b[4]
                    ),
                    mbit: 25_000,
                    switch: made.name.clone(),
                    port: name.clone(),
                });
            }
            ports.insert(name, port);
        }
        let switch = Switch {
            name: made.name.clone(),
            address: format!("{net}.{}:8443", made.address),
            identity: identity(&made.name)?,
            password: "first-light".into(),
            up: true,
            ports,
        };
        state.switches.insert(made.name.clone(), switch);
    }
    Ok(())
}

/// A number that only grows: milliseconds, and never the same twice.
pub(crate) fn tick() -> u64 {
    use std::sync::atomic::{AtomicU64, Ordering};
    static LAST: AtomicU64 = AtomicU64::new(0);
    let now = u64::try_from(wall()).unwrap_or(0) * 1000;
    LAST.fetch_update(Ordering::SeqCst, Ordering::SeqCst, |last| {
        Some(now.max(last + 1))
    })
    .map_or(now, |last| now.max(last + 1))
}

impl World {
    /// Lets guests that have finished stopping be off and gives their leases back; halts those that can't write, and
    /// lets them go on when they can.
    pub(crate) fn settle(&self, name: &str) {
        let now = self.now();
        let mut state = self.lock();
        let mounted: Vec<String> = match state.hosts.get(name) {
            Some(host) => host.mounted.iter().cloned().collect(),
            None => return,
        };
        let reached: BTreeSet<String> = mounted
            .into_iter()
            .filter(|uid| state.reaches(name, uid))
            .collect();
        let State { hosts, volumes, .. } = &mut *state;
        let Some(host) = hosts.get_mut(name) else {
            return;
        };
        for uid in &reached {
            if let Some(volume) = volumes.get_mut(uid) {
                volume
                    .renewals
                    .insert(name.to_owned(), now.unsigned_abs() / 10_000);
            }
        }
        let mut changed = BTreeSet::new();
        let mut off = Vec::new();
        for (uuid, guest) in &mut host.guests {
            let Some(volume) = volumes.get_mut(&guest.volume) else {
                continue;
            };
            if halt_or_go_on(
                volume,
                name,
                uuid,
                guest,
                reached.contains(&guest.volume),
                now,
            ) {
                changed.insert(guest.volume.clone());
            }
            let temper = volume.records.get(uuid).map(|r| r.temper);
            if temper.is_some_and(|t| guest.phase(now, t) == "off") {
                off.push(uuid.clone());
                changed.insert(guest.volume.clone());
            }
        }
        for uuid in off {
            if let Some(volume) = host
                .guests
                .remove(&uuid)
                .and_then(|g| volumes.get_mut(&g.volume))
            {
                volume.drop_lease(&uuid);
            }
        }
        if changed.is_empty() {
            return;
        }
        for uid in changed {
            self.save_volume(&state, &uid);
        }
        self.save_host(&state, name);
    }

    /// The guest of this name writes so many bytes to its first disk; without room or path it halts.
    pub fn write(&self, machine: &str, bytes: u64) {
        let mut touched = None;
        {
            let mut state = self.lock();
            let State { hosts, volumes, .. } = &mut *state;
            for host in hosts.values_mut() {
                for (uuid, guest) in &mut host.guests {
                    let named = volumes
                        .get(&guest.volume)
                        .and_then(|v| v.records.get(uuid))
                        .is_some_and(|r| r.name == machine);
                    if named {
                        guest.unwritten += bytes;
                        touched = Some(host.name.clone());
                    }
                }
            }
        }
        if let Some(host) = touched {
            self.settle(&host);
        }
    }

    /// What somebody did at the host's own screen, and forgot: the volume is unmounted there, and its reach is gone.
    pub fn forget(&self, host: &str, uid: &str) {
        let mut state = self.lock();
        let State { hosts, arrays, .. } = &mut *state;
        let Some(host_state) = hosts.get_mut(host) else {
            return;
        };
        host_state.mounted.remove(uid);
        let iqn = host_state.iqn.clone();
        let mut name = None;
        for array in arrays.values_mut() {
            let Some(lun) = array.lun_with(uid).map(|(id, _)| id.clone()) else {
                continue;
            };
            let initiators = &array.initiators;
            array.connections.retain(|_, c| {
                c.lun != lun || initiators.get(&c.initiator).is_none_or(|i| *i != iqn)
            });
            name = Some(array.name.clone());
        }
        self.save_host(&state, host);
        if let Some(name) = name {
            self.save_array(&state, &name);
        }
    }

    /// Lets an initiator that is no host of ours reach a volume.
    pub fn offer_to(&self, uid: &str, iqn: &str) {
        let mut state = self.lock();
        offer(&mut state, iqn, uid);
    }
    /// What was written to the named array under a name, and to whom it is offered: (volume, initiators).
    pub fn offers(&self, array: &str) -> Vec<(String, usize)> {
        let state = self.lock();
        let Some(array) = state.arrays.get(array) else {
            return Vec::new();
        };
        let count = |lun: &String| array.connections.values().filter(|c| c.lun == *lun).count();
        array
            .luns
            .iter()
            .map(|(id, l)| (l.name.clone(), count(id)))
            .collect()
    }

    /// Breaks or mends a management controller, counted from 1.
    pub fn controller(&self, array: &str, number: usize, up: bool) {
        let mut state = self.lock();
        let found = state.arrays.get_mut(array);
        if let Some(c) = found.and_then(|a| a.controllers.get_mut(number.wrapping_sub(1))) {
            c.up = up;
        }
        self.save_array(&state, array);
    }
    /// Breaks or mends a portal, counted from 1: for everybody, or for one host.
    pub fn portal(&self, array: &str, number: usize, host: Option<&str>, up: bool) {
        let mut state = self.lock();
        let State { hosts, arrays, .. } = &mut *state;
        let portal = arrays
            .get_mut(array)
            .and_then(|a| a.portals.get_mut(number.wrapping_sub(1)));
        let Some(portal) = portal else { return };
        match host {
            None => portal.up = up,
            Some(name) => {
                if let Some(host) = hosts.get_mut(name) {
                    if up {
                        host.cut.remove(&portal.address);
                    } else {
                        host.cut.insert(portal.address.clone());
                    }
                }
                self.save_host(&state, name);
            }
        }
        self.save_array(&state, array);
    }
    pub(crate) fn answers(&self, array: &str, number: usize) -> bool {
        self.lock()
            .arrays
            .get(array)
            .and_then(|a| a.controllers.get(number))
            .is_some_and(|c| c.up)
    }
    pub(crate) fn switch_answers(&self, name: &str) -> bool {
        self.lock().switches.get(name).is_some_and(|s| s.up)
    }
    /// Makes a switch's management silent; its ports go on.
    pub fn silence_switch(&self, name: &str, silent: bool) {
        let mut state = self.lock();
        if let Some(switch) = state.switches.get_mut(name) {
            switch.up = !silent;
        }
        self.save_switch(&state, name);
    }
    /// What somebody did on the switch: the frame size of a host's port, or a VLAN taken off it.
    pub fn change_port(&self, switch: &str, host: &str, mtu: Option<u32>, without: Option<u16>) {
        let mut state = self.lock();
        if let Some(found) = state.switches.get_mut(switch) {
            for port in found.ports.values_mut().filter(|p| p.neighbour.0 == host) {
                port.mtu = mtu.unwrap_or(port.mtu);
                if let Some(vlan) = without {
                    port.tagged.remove(&vlan);
                }
            }
        }
        self.save_switch(&state, switch);
    }
    /// Somebody unknown answers at this address from now on.
    pub fn squat(&self, address: &str, name: &str) {
        self.lock()
            .squatters
            .insert(address.to_owned(), name.to_owned());
    }
    /// What somebody did at a host's own screen: a network is gone there.
    pub fn forget_network(&self, host: &str, network: &str) {
        let mut state = self.lock();
        if let Some(host) = state.hosts.get_mut(host) {
            host.networks.remove(network);
        }
        self.save_host(&state, host);
    }
    /// Management addresses of the switches, by name.
    pub fn switches(&self) -> BTreeMap<String, String> {
        let state = self.lock();
        state
            .switches
            .values()
            .map(|s| (s.name.clone(), s.address.clone()))
            .collect()
    }
    /// Addresses that a machine's guest has taken on from its seed.
    pub fn guest_addresses(&self, machine: &str) -> Vec<String> {
        let state = self.lock();
        let records = state.volumes.values().flat_map(|v| v.records.values());
        records
            .filter(|r| r.name == machine)
            .filter_map(|r| r.seed.as_deref())
            .flat_map(crate::seed::addresses)
            .collect()
    }

    /// Management addresses of the arrays and filers, by name.
    pub fn arrays(&self) -> BTreeMap<String, Vec<String>> {
        let state = self.lock();
        let addresses = |a: &Array| a.controllers.iter().map(|c| c.address.clone()).collect();
        state
            .arrays
            .values()
            .map(|a| (a.name.clone(), addresses(a)))
            .collect()
    }
}

/// Answers whether something changed.
fn halt_or_go_on(
    volume: &mut Volume,
    host: &str,
    uuid: &str,
    guest: &mut Guest,
    reached: bool,
    now: i64,
) -> bool {
    let why = if !reached {
        Some(format!("no path to {}", volume.name))
    } else if guest.unwritten > volume.free() {
        Some(format!("{} is full", volume.name))
    } else {
        None
    };
    match why {
        None => {
            let halted = guest.paused.take();
            if let Some((_, since)) = &halted {
                // The clock stood still for it.
                guest.started += now - since;
            }
            let waiting = std::mem::take(&mut guest.unwritten);
            if waiting > 0 {
                volume.write(uuid, host, guest.generation, waiting);
            }
            halted.is_some() || waiting > 0
        }
        Some(why) if guest.paused.as_ref().is_none_or(|(was, _)| *was != why) => {
            let since = guest.paused.as_ref().map_or(now, |(_, since)| *since);
            guest.paused = Some((why, since));
            true
        }
        Some(_) => false,
    }
}
