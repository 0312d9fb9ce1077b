//! The state of all devices, with the virtual clock, the faults, and the files it is kept in.

use crate::{
    deeds::Deeds,
    fault::{Fault, FaultKind},
    keeping::Unwritten,
    make::{identity, log_in_everywhere, make_arrays, make_host, make_switches, offer, place},
    rooms::fronts::{LoadBalancer, live::Balancing},
    rooms::hosts::host::Host,
    rooms::hosts::leases::HostLease,
    rooms::images::files::Images,
    rooms::keepers::running::Keepers,
    rooms::machines::{guest::Guest, power::settle_leases},
    rooms::moving::copying::Copies,
    rooms::moving::sending::Moves,
    rooms::naming::NameServer,
    rooms::networks::network::Switch,
    rooms::packages::{Jobs, Packed, grains::Grains},
    rooms::snapshots::blocks::Written,
    rooms::storage::array::Array,
    rooms::storage::volume::Volume,
    rooms::stores::BucketServer,
    rooms::taking::{self, Former},
    rooms::timing::TimeSource,
    scenario::Scenario,
    weather::House,
};
use serde::de::DeserializeOwned;
use std::{
    collections::{BTreeMap, BTreeSet},
    fs, io,
    path::{Path, PathBuf},
    sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError, atomic::AtomicU64},
    time::{Instant, SystemTime, UNIX_EPOCH},
};

pub struct World {
    state: Mutex<State>,
    faults: Mutex<Vec<Fault>>,
    pub(crate) unwritten: Unwritten,
    pub(crate) images: Images,
    pub(crate) grains: Grains,
    /// Files that are being packed, and disks that are read from files.
    pub(crate) packing: Jobs<Packed>,
    pub(crate) unpacking: Jobs<Vec<Written>>,
    pub(crate) moves: Moves,
    pub(crate) dir: PathBuf,
    speed: f64,
    pub(crate) began: Instant,
    began_at: i64,
    /// How many times as fast as ours the leases' time goes.
    pub(crate) lease_pace: AtomicU64,
    pub(crate) keepers: Keepers,
    pub(crate) balancing: Balancing,
    pub(crate) reports: crate::agent::telling::Reports,
    pub(crate) house: OnceLock<Arc<dyn House>>,
}

#[derive(Default)]
pub(crate) struct State {
    pub(crate) hosts: BTreeMap<String, Host>,
    pub(crate) volumes: BTreeMap<String, Volume>,
    pub(crate) arrays: BTreeMap<String, Array>,
    pub(crate) switches: BTreeMap<String, Switch>,
    pub(crate) sources: BTreeMap<String, TimeSource>,
    pub(crate) names: BTreeMap<String, NameServer>,
    pub(crate) balancers: BTreeMap<String, LoadBalancer>,
    pub(crate) buckets: BTreeMap<String, BucketServer>,
    /// What the line between any two sites adds to a round trip.
    pub(crate) line_micros: u64,
    /// Ways from the agent of one host to the address of another that something in between closes.
    pub(crate) walls: std::collections::BTreeSet<(String, String)>,
    /// Other managers, by name.
    pub(crate) formers: BTreeMap<String, Former>,
    /// Addresses that answer and belong to nobody we know, with what they call themselves.
    pub(crate) squatters: BTreeMap<String, String>,
    /// No gateway answers anybody.
    pub(crate) routers_silent: bool,
    /// Disks on their way to other volumes, by host and machine; not kept over a restart of the stand-ins.
    pub(crate) copies: Copies,
    /// Snapshots that are being taken, and layers that are folded.
    pub(crate) going: crate::rooms::snapshots::going::AllGoing,
    pub(crate) copying: crate::rooms::templates::copying::AllCopying,
    /// What is copied, as it was when that began; by what it makes.
    pub(crate) held: BTreeMap<String, crate::rooms::templates::Held>,
    /// What was done since the stand-ins began.
    pub(crate) deeds: Deeds,
}

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
        fs::create_dir_all(dir.join("time"))?;
        fs::create_dir_all(dir.join("formers"))?;
        fs::create_dir_all(dir.join("names"))?;
        fs::create_dir_all(dir.join("balancers"))?;
        fs::create_dir_all(dir.join("bucket-servers"))?;
        let mut state = State::default();
        for volume in read_all::<Volume>(&dir.join("volumes"))? {
            state.volumes.insert(volume.uid.clone(), volume);
        }
        for mut host in read_all::<Host>(&dir.join("hosts"))? {
            // What was being moved when everything ended goes on where its lease is.
            host.guests.values_mut().for_each(|g| g.thaw(wall()));
            state.hosts.insert(host.name.clone(), host);
        }
        for array in read_all::<Array>(&dir.join("arrays"))? {
            state.arrays.insert(array.name.clone(), array);
        }
        for switch in read_all::<Switch>(&dir.join("switches"))? {
            state.switches.insert(switch.name.clone(), switch);
        }
        for source in read_all::<TimeSource>(&dir.join("time"))? {
            state.sources.insert(source.name.clone(), source);
        }
        for server in read_all::<NameServer>(&dir.join("names"))? {
            state.names.insert(server.name.clone(), server);
        }
        for balancer in read_all::<LoadBalancer>(&dir.join("balancers"))? {
            state.balancers.insert(balancer.name.clone(), balancer);
        }
        for server in read_all::<BucketServer>(&dir.join("bucket-servers"))? {
            state.buckets.insert(server.name.clone(), server);
        }
        for former in read_all::<Former>(&dir.join("formers"))? {
            state.formers.insert(former.name.clone(), former);
        }
        let fresh = state.hosts.is_empty();
        let began_at = wall();
        let world = World {
            state: Mutex::new(state),
            faults: Mutex::new(Vec::new()),
            unwritten: Unwritten::default(),
            images: Images::open(dir)?,
            grains: Grains::open(dir)?,
            packing: Jobs::default(),
            unpacking: Jobs::default(),
            moves: Moves::default(),
            dir: dir.into(),
            speed,
            began: Instant::now(),
            began_at,
            lease_pace: AtomicU64::new(1),
            keepers: Keepers::default(),
            balancing: Balancing::default(),
            reports: Default::default(),
            house: OnceLock::new(),
        };
        if fresh {
            world.make(scenario, net)?;
        } else {
            world.settle_all();
        }
        Ok(world)
    }

    /// Everything ended, perhaps in the middle of a start: each host proves what it runs.
    fn settle_all(&self) {
        let mut state = self.lock();
        let on = state.hosts.values().filter(|h| h.power);
        let names: Vec<String> = on.map(|h| h.name.clone()).collect();
        for name in names {
            for uid in settle_leases(&mut state, &name) {
                self.save_volume(&state, &uid);
            }
            self.save_host(&state, &name);
        }
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
        for (name, address) in &scenario.time {
            let source = TimeSource {
                name: name.clone(),
                address: format!("{net}.{address}:1123"),
                offset_ms: 0,
                silent: false,
            };
            state.sources.insert(name.clone(), source);
            self.save_source(&state, name);
        }
        for (name, made) in &scenario.names {
            state
                .names
                .insert(name.clone(), NameServer::of(name, made, net));
            self.save_names(&state, name);
        }
        for (name, made) in &scenario.balancers {
            state
                .balancers
                .insert(name.clone(), LoadBalancer::of(name, made, net)?);
            self.save_balancer(&state, name);
        }
        for (name, made) in &scenario.buckets {
            state
                .buckets
                .insert(name.clone(), BucketServer::of(name, made, net)?);
            self.save_buckets(&state, name);
        }
        for machine in &scenario.machines {
            place(&mut state, machine, self.now());
        }
        for made in &scenario.handmade {
            taking::make(&mut state, made, self.now());
            self.save_former(&state, &made.manager);
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
        self.save("hosts", name, state.hosts.get(name));
    }
    pub(crate) fn save_array(&self, state: &State, name: &str) {
        self.save("arrays", name, state.arrays.get(name));
    }
    pub(crate) fn save_switch(&self, state: &State, name: &str) {
        self.save("switches", name, state.switches.get(name));
    }
    pub(crate) fn save_source(&self, state: &State, name: &str) {
        self.save("time", name, state.sources.get(name));
    }
    pub(crate) fn save_former(&self, state: &State, name: &str) {
        self.save("formers", name, state.formers.get(name));
    }
    pub(crate) fn save_volume(&self, state: &State, uid: &str) {
        self.save("volumes", uid, state.volumes.get(uid));
    }
    pub(crate) fn is_on(&self, host: &str) -> bool {
        self.lock()
            .hosts
            .get(host)
            .is_some_and(|h| h.power && !h.hung && !h.stalled && h.bare.is_installed())
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
    pub(crate) fn has_fault(&self, device: &str, kind: FaultKind) -> bool {
        let faults = self.faults.lock().unwrap_or_else(PoisonError::into_inner);
        faults
            .iter()
            .any(|f| f.device == device && f.kind == kind && f.times > 0)
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
    /// Lets the disks stand still, or go on: checksums are not worked out meanwhile.
    pub fn disks_stand_still(&self, still: bool) {
        self.images.stand_still(still);
    }
    /// Writes that no machine should ever have made.
    pub fn violations(&self) -> Vec<String> {
        self.lock()
            .volumes
            .values()
            .flat_map(|v| v.violations.clone())
            .collect()
    }
    /// The initiators that reach a volume of any array, by its name there.
    pub fn mappings(&self, volume: &str) -> Vec<String> {
        let state = self.lock();
        let all = state.arrays.values();
        all.flat_map(|a| a.reached_by(volume)).collect()
    }
    /// Addresses (`ip:port`) of the host agents, by name.
    pub fn agents(&self) -> BTreeMap<String, String> {
        self.lock()
            .hosts
            .values()
            .filter(|h| h.bare.is_installed())
            .map(|h| (h.name.clone(), h.address.clone()))
            .collect()
    }
    /// Switches a host on or off, as its power cord would; what ran on it is gone. Its leases stay where they are until it
    /// can give them back, or somebody has proof that it is off.
    pub fn power(&self, name: &str, on: bool) {
        let now = self.now();
        let mut state = self.lock();
        if state.hosts.get(name).is_none_or(|h| h.power == on) {
            return;
        }
        crate::rooms::moving::copying::lost(&mut state, name);
        crate::rooms::snapshots::going::lost(&mut state, name);
        crate::rooms::templates::copying::lost(&mut state, name);
        let Some(host) = state.hosts.get_mut(name) else {
            return;
        };
        if on {
            host.boot += 1;
        }
        (host.power, host.hung, host.stalled) = (on, false, false);
        if on {
            host.bare.powered(now);
        } else {
            host.bare.lost_power();
        }
        host.lease = HostLease::fresh(self.lease_clock());
        host.guests.clear();
        host.fell.clear();
        if on {
            settle_leases(&mut state, name);
        }
        let touched: Vec<String> = state.volumes.keys().cloned().collect();
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
        self.copy_on(name);
        self.fold_on(name);
        let now = self.now();
        let mut state = self.lock();
        for uid in state.pools_on(name, now) {
            self.volume_changed(&uid);
        }
        let mounted: Vec<String> = match state.hosts.get(name) {
            Some(host) => host.mounted.iter().cloned().collect(),
            None => return,
        };
        let reached: BTreeSet<String> = mounted
            .into_iter()
            .filter(|uid| state.reaches(name, uid))
            .collect();
        let mut changed = crate::rooms::sharing::guests::act(&mut state, name, now);
        let State { hosts, volumes, .. } = &mut *state;
        let Some(host) = hosts.get_mut(name) else {
            return;
        };
        let frozen = host.lease.frozen || host.stalled;
        let mut off = Vec::new();
        for (uuid, guest) in &mut host.guests {
            if guest.frozen.is_some() {
                continue;
            }
            let Some(volume) = volumes.get_mut(&guest.volume) else {
                continue;
            };
            if crate::rooms::snapshots::going::follow_now_and_then(volume, guest, uuid, now) {
                changed.insert(guest.volume.clone());
            }
            if halt_or_go_on(
                volume,
                name,
                uuid,
                guest,
                reached.contains(&guest.volume).then_some(frozen),
                now,
            ) {
                changed.insert(guest.volume.clone());
            }
            let locked = volume.records.get(uuid).is_some_and(|r| r.is_locked());
            // Who types the key lets it go on from where it stood.
            if guest.locked && !locked {
                guest.goes_on(now);
            }
            guest.locked = locked && guest.from == "disk";
            if volume.boots_first(uuid, guest, now) {
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
                volume.drop_lease(&uuid, name);
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
}

/// `reached`: none where the host has no path, else whether it froze its guests. Answers whether something changed.
fn halt_or_go_on(
    volume: &mut Volume,
    host: &str,
    uuid: &str,
    guest: &mut Guest,
    reached: Option<bool>,
    now: i64,
) -> bool {
    let why = if reached.is_none() {
        Some(format!("no path to {}", volume.name))
    } else if reached == Some(true) {
        Some("the lease of its host is not renewed".to_owned())
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
