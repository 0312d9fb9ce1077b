//! What a host does about its own lease, whoever asks it or not: it renews it on every volume that it reaches, freezes its
//! guests when that fails for two thirds of its time, and is reset by its watchdog at the end.
//!
//! The lease is the host's, not its agent's: it is renewed while the agent answers nobody, and by nobody while the whole
//! host hangs. The watchdog is hardware, and goes on in any case.

use crate::{
    agent::owner_only,
    fault::Device,
    rooms::machines::power::settle_leases,
    rooms::networks::network::HostNet,
    rooms::storage::calls::mounted,
    rooms::storage::volume::LeaseWord,
    world::{State, World},
};
use axum::{
    Json,
    extract::{Path, State as Extract},
    http::{HeaderMap, StatusCode},
    response::{IntoResponse, Response},
};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use std::time::Duration;

/// A lease's time, how often it is renewed, and how soon again where that failed; in milliseconds.
pub(crate) const LEASE: u64 = 60_000;
const RENEW: u64 = 10_000;
const AGAIN: u64 = 1_000;
/// Renewals after which what stands beside a lease is not obeyed any more.
const OBEYED: u64 = 6;
/// How often hosts look at their clocks.
pub(crate) const BEAT: Duration = Duration::from_millis(100);

/// What a host knows of its own lease; not kept over a restart of the stand-ins.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct HostLease {
    renewed: u64,
    due: u64,
    /// When a renewal that is on its way to a slow array was sent.
    #[serde(default)]
    sent: Option<u64>,
    /// Whether its guests stand still because it was not renewed.
    pub(crate) frozen: bool,
}

impl HostLease {
    pub(crate) fn fresh(now: u64) -> Self {
        HostLease {
            renewed: now,
            due: now,
            sent: None,
            frozen: false,
        }
    }
}

impl World {
    /// Leases go so many times as fast from now on, for tests.
    pub fn hurry_leases(&self, by: u64) {
        self.lease_pace
            .store(by.max(1), std::sync::atomic::Ordering::Relaxed);
    }
    pub(crate) fn hurries(&self) -> bool {
        self.lease_pace.load(std::sync::atomic::Ordering::Relaxed) > 1
    }
    pub(crate) fn lease_clock(&self) -> u64 {
        let passed = u64::try_from(self.began.elapsed().as_millis()).unwrap_or(u64::MAX);
        passed.saturating_mul(self.lease_pace.load(std::sync::atomic::Ordering::Relaxed))
    }

    /// One look of every host at its own clock.
    pub(crate) fn beat(&self) {
        let now = self.lease_clock();
        let mut resets = Vec::new();
        {
            let mut state = self.lock();
            let names: Vec<String> = state.hosts.keys().cloned().collect();
            for name in names {
                if renew(&mut state, &name, now) {
                    resets.push(name);
                }
            }
        }
        for name in resets {
            tracing::info!(host = %name, "its watchdog resets it");
            self.power(&name, false);
            self.power(&name, true);
            self.lock().did_what(&name, "watchdog reset");
        }
    }
}

/// Answers whether its watchdog resets it.
fn renew(state: &mut State, name: &str, now: u64) -> bool {
    let Some(host) = state.hosts.get(name) else {
        return false;
    };
    let guarded = host.power && host.cluster.is_some() && !host.mounted.is_empty();
    if !guarded {
        if let Some(host) = state.hosts.get_mut(name) {
            host.lease = HostLease::fresh(now);
        }
        return false;
    }
    let (lease, stalled, armed) = (host.lease, host.stalled, host.watchdog);
    if armed && now.saturating_sub(lease.renewed) >= LEASE {
        return true;
    }
    if stalled || now < lease.due {
        return false;
    }
    let serial = host.serial.clone();
    let reached: Vec<String> = host
        .mounted
        .iter()
        .filter(|uid| state.reaches(name, uid))
        .cloned()
        .collect();
    let slow = reached.iter().filter_map(|uid| state.array_with(uid));
    let slow = slow.map(|a| a.slow).max().unwrap_or(0);
    let sent = lease.sent.unwrap_or(now);
    if now.saturating_sub(sent) < slow {
        if let Some(host) = state.hosts.get_mut(name) {
            host.lease.sent = Some(sent);
            host.lease.frozen = now.saturating_sub(lease.renewed) >= LEASE / 3 * 2;
        }
        return false;
    }
    let unlinked = is_unlinked(state, name);
    obey(state, name, &reached, unlinked);
    let ended = state.hosts.get(name).map(|h| h.ended.clone());
    let ended = ended.unwrap_or_default();
    for uid in &reached {
        if let Some(volume) = state.volumes.get_mut(uid) {
            let ended = ended.get(uid).copied().unwrap_or(0);
            let word = LeaseWord { unlinked, ended };
            volume.words.insert(serial.clone(), word);
            *volume.renewals.entry(serial.clone()).or_insert(0) += 1;
        }
    }
    let Some(host) = state.hosts.get_mut(name) else {
        return false;
    };
    if reached.is_empty() {
        host.lease.sent = None;
        host.lease.due = now + AGAIN;
        host.lease.frozen = now.saturating_sub(lease.renewed) >= LEASE / 3 * 2;
        return false;
    }
    // What counts is when it was sent: until then the host had its lease, whatever it hears later.
    host.lease = HostLease {
        renewed: sent,
        due: sent + RENEW,
        sent: None,
        frozen: false,
    };
    if lease.frozen {
        // Before its guests go on it looks whose they are.
        settle_leases(state, name);
    }
    false
}

/// Whether nobody reaches its guests: each that has networks has none with a link.
fn is_unlinked(state: &State, name: &str) -> bool {
    let Some(host) = state.hosts.get(name) else {
        return false;
    };
    let nics = host.guests.iter().filter_map(|(uuid, guest)| {
        let record = state.volumes.get(&guest.volume)?.records.get(uuid)?;
        Some(record.nics.iter().filter_map(|n| n.network.as_ref()))
    });
    let mut nets = nics
        .flatten()
        .filter_map(|n| host.networks.get(n))
        .peekable();
    let linked = |net: &HostNet| {
        let mut beneath = host
            .uplinks
            .iter()
            .filter(|u| net.uplinks.contains(&u.name));
        beneath.any(|u| u.up)
    };
    nets.peek().is_some() && !nets.any(linked)
}

/// Ends what it runs, if that stands beside its lease, is not old, and nobody reaches its guests in any case. Their run leases
/// it gives back: it reaches their volumes.
fn obey(state: &mut State, name: &str, reached: &[String], unlinked: bool) {
    let Some(host) = state.hosts.get(name).filter(|_| unlinked) else {
        return;
    };
    let told = reached.iter().filter_map(|uid| {
        let volume = state.volumes.get(uid)?;
        let number = *volume.told.get(&host.serial)?;
        let counter = volume.renewals.get(&host.serial).copied().unwrap_or(0);
        let before = host.ended.get(uid).copied().unwrap_or(0);
        (number > before && counter <= number + OBEYED).then(|| (uid.clone(), number))
    });
    let told: Vec<(String, u64)> = told.collect();
    if told.is_empty() {
        return;
    }
    let guests: Vec<String> = host.guests.keys().cloned().collect();
    tracing::info!(host = %name, ?told, "its lease tells it to end what it runs");
    for uuid in &guests {
        let gone = state
            .hosts
            .get_mut(name)
            .and_then(|h| h.guests.remove(uuid));
        if let Some(volume) = gone.and_then(|g| state.volumes.get_mut(&g.volume)) {
            volume.drop_lease(uuid, name);
        }
    }
    if let Some(host) = state.hosts.get_mut(name) {
        host.ended.extend(told);
        host.fell.extend(guests);
    }
    state.did_what(name, "ended all, told by its lease");
}

/// The leases on a volume, by the serial of each host.
pub(crate) fn on_volume(state: &State, uid: &str) -> Value {
    json!(state.volumes.get(uid).map(|v| &v.renewals))
}

/// What stands beside them.
pub(crate) fn words_on_volume(state: &State, uid: &str) -> Value {
    json!(state.volumes.get(uid).map(|v| &v.words))
}

#[derive(Deserialize)]
pub(crate) struct Tell {
    end: u64,
}

/// Writes beside a host's lease what it shall do; a lower number takes no higher one's place.
pub(crate) async fn tell(
    Extract(device): Extract<Device>,
    Path((uid, serial)): Path<(String, String)>,
    headers: HeaderMap,
    Json(ask): Json<Tell>,
) -> Response {
    if let Err(no) = owner_only(&device, &headers) {
        return no;
    }
    let mut state = device.world.lock();
    let volume = match mounted(&mut state, &device.name, &uid) {
        Ok(volume) => volume,
        Err(no) => return no,
    };
    let told = volume.told.entry(serial).or_insert(0);
    *told = ask.end.max(*told);
    StatusCode::NO_CONTENT.into_response()
}

#[cfg(test)]
mod tests {
    use crate::{SKARHOLM, scenario::Scenario, world::World};
    use std::path::Path;

    fn open(dir: &Path) -> World {
        let demo: Scenario = serde_json::from_str(SKARHOLM).unwrap();
        let world = World::open(dir, &demo, "127.79", 1.0).unwrap();
        world.hurry_leases(100);
        for host in world.lock().hosts.values_mut() {
            host.cluster = Some("eider".into());
        }
        world.beat();
        world
    }
    fn wait(world: &World, seconds: u64) {
        let until = world.lease_clock() + seconds * 1000;
        while world.lease_clock() < until {
            std::thread::sleep(std::time::Duration::from_millis(1));
            world.beat();
        }
    }
    fn count(world: &World, host: &str) -> u64 {
        let state = world.lock();
        let host = &state.hosts[host];
        let volumes = host.mounted.iter().filter_map(|uid| state.volumes.get(uid));
        volumes.filter_map(|v| v.renewals.get(&host.serial)).sum()
    }

    /// If this fails, a host whose agent is dead is taken for dead, or one that hangs for alive.
    #[test]
    fn a_lease_is_renewed_without_an_agent_and_by_nobody_while_the_host_hangs() {
        let dir = tempfile::tempdir().unwrap();
        let world = open(dir.path());
        world.hang("eider-01", true);
        let before = count(&world, "eider-01");
        wait(&world, 25);
        assert!(
            count(&world, "eider-01") > before,
            "its agent answers nobody, and it lives"
        );
        world.stall("eider-02", true);
        let before = count(&world, "eider-02");
        wait(&world, 25);
        assert_eq!(count(&world, "eider-02"), before);
        assert!(!world.is_on("eider-02"), "it answers nobody");
    }

    /// If this fails, a lease that has run out is no proof: the host may write on.
    #[test]
    fn without_renewal_guests_freeze_at_two_thirds_and_the_watchdog_resets_at_the_end() {
        let dir = tempfile::tempdir().unwrap();
        let world = open(dir.path());
        let boot = |w: &World| w.lock().hosts["eider-01"].boot;
        let (first, guests) = (boot(&world), world.lock().hosts["eider-01"].guests.len());
        assert!(guests > 0);
        for n in 1..=2 {
            world.portal("basalt", n, Some("eider-01"), false);
            world.portal("basalt", n + 2, Some("eider-01"), false);
        }
        wait(&world, 48);
        world.settle("eider-01");
        {
            let state = world.lock();
            let host = &state.hosts["eider-01"];
            assert!(
                host.lease.frozen && host.boot == first,
                "frozen, and not reset yet"
            );
            assert!(host.guests.values().all(|g| g.paused.is_some()));
        }
        wait(&world, 25);
        assert_eq!(boot(&world), first + 1, "reset");
        assert!(
            world.lock().hosts["eider-01"].guests.is_empty(),
            "nothing starts by itself after a boot"
        );
        assert_eq!(world.violations(), Vec::<String>::new());
    }

    /// If this fails, waiting for a watchdog that nobody armed lets two hosts write one disk.
    #[test]
    fn a_watchdog_that_is_not_armed_resets_nothing() {
        let dir = tempfile::tempdir().unwrap();
        let world = open(dir.path());
        world.arm("eider-01", false);
        world.stall("eider-01", true);
        let boot = world.lock().hosts["eider-01"].boot;
        wait(&world, 130);
        assert_eq!(world.lock().hosts["eider-01"].boot, boot);
    }
}
