//! Power: on under a new generation of the run lease, stop, off; and what a machine boots from.

use crate::agent::{
    change::{by_generation, keyed_at, one_record},
    owner_only, refused, say,
};
use crate::{
    fault::Device,
    rooms::hosts::host::Host,
    rooms::machines::guest::Guest,
    rooms::storage::volume::{Boot, ImageAt, Record, Volume},
    world::State,
};
use axum::{
    Json,
    extract::{Path, State as Extract},
    http::{HeaderMap, StatusCode},
    response::{IntoResponse, Response},
};
use serde::Deserialize;
use serde_json::json;
use std::collections::BTreeSet;

/// The image is there, whole, and on a volume that the host mounts.
pub(crate) fn boot_fits(state: &State, host: &str, boot: &Boot) -> Result<(), Response> {
    let Some(at) = &boot.image else {
        return Ok(());
    };
    if image_label(state, host, at).is_some() {
        return Ok(());
    }
    let words = format!("This host sees no whole image {} on {}.", at.id, at.volume);
    Err(refused(StatusCode::CONFLICT, "image", words))
}

/// The name of an image that a machine on this host can boot from.
fn image_label(state: &State, host: &str, at: &ImageAt) -> Option<String> {
    let sees = state.reaches(host, &at.volume)
        && state
            .hosts
            .get(host)
            .is_some_and(|h| h.mounted.contains(&at.volume));
    let image = state.volumes.get(&at.volume)?.images.get(&at.id)?;
    (sees && image.sha256.is_some()).then(|| image.name.clone())
}

/// What the machine boots from now: what was asked for once, else the first of its order that is there.
fn boot_source(state: &State, host: &str, record: &Record) -> Option<String> {
    let there = |from: &String| match from.as_str() {
        "image" => {
            let image = record.boot.image.as_ref();
            image.is_some_and(|at| image_label(state, host, at).is_some())
        }
        "network" => record.nics.iter().any(|n| {
            let at = state.hosts.get(host);
            n.network
                .as_ref()
                .is_some_and(|net| at.is_some_and(|h| h.networks.contains_key(net)))
        }),
        "disk" => !record.disks.is_empty(),
        _ => false,
    };
    let mut wishes = record.boot.once.iter().chain(&record.boot.order);
    wishes.find(|f| there(f)).cloned()
}

#[derive(Deserialize)]
pub(crate) struct Power {
    act: String,
    generation: Option<u64>,
    #[serde(default)]
    proved_off: Vec<ProvedOff>,
    /// The boot of this host that the order is meant for.
    #[serde(default)]
    boot: Option<u64>,
    /// The volume of the record that it is started by.
    #[serde(default)]
    volume: Option<String>,
}

/// The host that holds the run lease is off: whoever gives the order has proof of it.
#[derive(Deserialize)]
struct ProvedOff {
    serial: String,
    generation: u64,
}

impl ProvedOff {
    /// Never its own: what it runs it knows by itself.
    fn end_lease(&self, state: &mut State, here: &str, uuid: &str) {
        let of = |h: &&Host| h.serial == self.serial && h.name != here;
        let Some(holder) = state.hosts.values().find(of).map(|h| h.name.clone()) else {
            return;
        };
        for volume in state.volumes.values_mut() {
            volume.end_lease(uuid, &holder, self.generation);
        }
    }
}

/// An order that is older than this boot is not obeyed: whoever gave it knows nothing of it.
fn meant_for(state: &State, name: &str, boot: Option<u64>) -> Result<(), Response> {
    let now = state.hosts.get(name).map_or(0, |h| h.boot);
    if boot.is_none_or(|b| b == now) {
        return Ok(());
    }
    let words = format!("The order is meant for another boot of this host; now it is {now}.");
    Err(refused(StatusCode::CONFLICT, "boot_id", words))
}

/// Whether the machine is on here, under a lease of this host's.
fn runs(state: &State, name: &str, uuid: &str) -> bool {
    let host = state.hosts.get(name);
    host.is_some_and(|h| h.guests.contains_key(uuid))
}

pub(crate) async fn power(
    Extract(device): Extract<Device>,
    Path(uuid): Path<String>,
    headers: HeaderMap,
    Json(ask): Json<Power>,
) -> Response {
    if let Err(no) = owner_only(&device, &headers) {
        return no;
    }
    let name = device.name.clone();
    let guarded = ask.boot.is_some() && ask.generation.is_some();
    let act = |state: &mut State, now: i64| {
        match ask.act.as_str() {
            "on" => {
                meant_for(state, &name, ask.boot)?;
                settle_leases(state, &name);
                // Whoever brings machines back asks again where an answer was lost: what runs is answered as it is.
                if ask.boot.is_some() && runs(state, &name, &uuid) {
                    let host = &state.hosts[&name];
                    return Ok(say::machine_now(state, host, &uuid, now).unwrap_or_default());
                }
                for proof in &ask.proved_off {
                    proof.end_lease(state, &name, &uuid);
                }
                let generation = ask.generation.unwrap_or(0);
                let volume = ask.volume.as_deref();
                power_on(state, &name, (&uuid, volume), generation, now)?;
            }
            "stop" => {
                let guest = state
                    .hosts
                    .get_mut(&name)
                    .and_then(|h| h.guests.get_mut(&uuid));
                let Some(guest) = guest else {
                    return Err(refused(
                        StatusCode::CONFLICT,
                        "off",
                        "The machine is not on here.",
                    ));
                };
                guest.stopping.get_or_insert(now);
            }
            "off" => {
                crate::rooms::consoles::screens::keep(
                    state,
                    &name,
                    &uuid,
                    now,
                    "it was powered off",
                );
                let gone = state
                    .hosts
                    .get_mut(&name)
                    .and_then(|h| h.guests.remove(&uuid));
                if let Some(volume) = gone.and_then(|g| state.volumes.get_mut(&g.volume)) {
                    volume.drop_lease(&uuid, &name);
                }
            }
            "end" => {
                meant_for(state, &name, ask.boot)?;
                end(state, &name, &uuid, ask.generation.unwrap_or(0), now)?;
            }
            "again" => {
                meant_for(state, &name, ask.boot)?;
                again(state, &name, &uuid, ask.generation.unwrap_or(0), now)?;
            }
            other => {
                return Err(refused(
                    StatusCode::BAD_REQUEST,
                    "act",
                    format!("“{other}” is not on, stop, off, end or again."),
                ));
            }
        }
        state.did_what(&name, &format!("power {} {uuid}", ask.act));
        let host = &state.hosts[&name];
        Ok(say::machine_now(state, host, &uuid, now).unwrap_or_else(|| json!({})))
    };
    if guarded {
        by_generation(&device, &headers, &uuid, act)
    } else {
        keyed_at(&device, &headers, &uuid, act)
    }
}

/// Ends a machine that stands still because this host doesn't reach its volume: the only thing that it can still be told. It
/// writes nothing to the volume, its run lease stays there until another host takes it under a higher generation.
fn end(
    state: &mut State,
    name: &str,
    uuid: &str,
    generation: u64,
    now: i64,
) -> Result<(), Response> {
    let guest = state.hosts.get(name).and_then(|h| h.guests.get(uuid));
    let Some(guest) = guest.cloned() else {
        return Ok(());
    };
    let conflict = |code, words: &str| Err(refused(StatusCode::CONFLICT, code, words));
    if guest.generation != generation {
        return conflict("generation", "It runs here under another generation.");
    }
    if state.reaches(name, &guest.volume) {
        return conflict("runs", "This host reaches its volume: it goes on.");
    }
    crate::rooms::consoles::screens::keep(state, name, uuid, now, "it was ended");
    if let Some(host) = state.hosts.get_mut(name) {
        host.guests.remove(uuid);
        host.fell.insert(uuid.to_owned());
    }
    Ok(())
}

/// Ends a machine and starts it under a higher generation, as one: it is never seen off in between. What can't be started stays.
fn again(
    state: &mut State,
    name: &str,
    uuid: &str,
    generation: u64,
    now: i64,
) -> Result<(), Response> {
    let guest = state.hosts.get(name).and_then(|h| h.guests.get(uuid));
    let Some(guest) = guest.cloned() else {
        let words = "The machine is not on here.";
        return Err(refused(StatusCode::CONFLICT, "off", words));
    };
    if guest.generation >= generation {
        // It was started again already.
        return Ok(());
    }
    let volume = state.volumes.get(&guest.volume);
    let lease = volume
        .and_then(|v| v.records.get(uuid))
        .map(|r| r.lease.clone());
    crate::rooms::consoles::screens::keep(state, name, uuid, now, "it was restarted");
    if let Some(host) = state.hosts.get_mut(name) {
        host.guests.remove(uuid);
    }
    if let Some(volume) = state.volumes.get_mut(&guest.volume) {
        volume.drop_lease(uuid, name);
    }
    let started = power_on(state, name, (uuid, Some(&guest.volume)), generation, now);
    if started.is_err() {
        let volume = state.volumes.get_mut(&guest.volume);
        let record = volume.and_then(|v| v.records.get_mut(uuid));
        if let Some((record, lease)) = record.zip(lease) {
            record.lease = lease;
        }
        if let Some(host) = state.hosts.get_mut(name) {
            host.fell.remove(uuid);
            host.guests.insert(uuid.to_owned(), guest);
        }
    }
    started
}

/// What a host holds and doesn't run is given back: it was ended between taking the lease and starting the machine, or lost
/// its power. What it runs without holding it is ended. Answers the volumes that changed.
pub(crate) fn settle_leases(state: &mut State, name: &str) -> BTreeSet<String> {
    let reached = state.devices(name);
    let State { hosts, volumes, .. } = state;
    let Some(host) = hosts.get_mut(name) else {
        return BTreeSet::new();
    };
    let mut changed = BTreeSet::new();
    for uid in host.mounted.iter().filter(|uid| reached.contains(*uid)) {
        let Some(volume) = volumes.get_mut(uid) else {
            continue;
        };
        for (uuid, record) in &mut volume.records {
            let holds = record.lease.holder.as_deref() == Some(name);
            if holds && !host.guests.contains_key(uuid) {
                record.lease.holder = None;
                changed.insert(uid.clone());
            }
        }
    }
    host.guests.retain(|uuid, guest| {
        let volume = volumes.get(&guest.volume);
        let lease = volume.and_then(|v| v.records.get(uuid)).map(|r| &r.lease);
        lease.is_none_or(|l| l.holder.as_deref() == Some(name) && l.generation == guest.generation)
    });
    changed
}

/// The host has memory for what the machine always keeps.
fn has_room(host: &Host, volume: &Volume, uuid: &str) -> Result<(), Response> {
    let on = host
        .guests
        .keys()
        .filter_map(|other| volume.records.get(other));
    let held: u64 = on.map(|r| r.memory.kept).sum();
    let needs = volume.records.get(uuid).map_or(0, |r| r.memory.kept);
    if held + needs > host.memory {
        let words = "Not enough memory on this host.";
        return Err(refused(StatusCode::CONFLICT, "memory", words));
    }
    Ok(())
}

fn power_on(
    state: &mut State,
    name: &str,
    (uuid, by): (&str, Option<&str>),
    generation: u64,
    now: i64,
) -> Result<(), Response> {
    let reached = state.devices(name);
    let home = match by {
        Some(by) => Some(by.to_owned()),
        None => {
            one_record(state, name, uuid)?;
            state.home(name, uuid)
        }
    };
    let record = home
        .as_ref()
        .and_then(|uid| state.volumes.get(uid)?.records.get(uuid));
    let from = record.and_then(|record| boot_source(state, name, record));
    let State { hosts, volumes, .. } = state;
    let Some(host) = hosts.get_mut(name) else {
        return Err(StatusCode::NOT_FOUND.into_response());
    };
    let uid = home.filter(|uid| host.mounted.contains(uid));
    let found = uid.and_then(|uid| volumes.get_mut(&uid).map(|v| (uid, v)));
    let found = found.filter(|(_, v)| v.records.contains_key(uuid));
    let Some((uid, volume)) = found else {
        return Err(refused(
            StatusCode::NOT_FOUND,
            "machine",
            "No volume that this host sees has such a machine.",
        ));
    };
    if !reached.contains(&uid) {
        return Err(refused(
            StatusCode::CONFLICT,
            "path",
            format!("No path of this host to {} works.", volume.name),
        ));
    }
    if volume.records.get(uuid).is_some_and(|r| r.deleted) {
        return Err(refused(
            StatusCode::CONFLICT,
            "deleted",
            "The machine was deleted.",
        ));
    }
    has_room(host, volume, uuid)?;
    let Some(from) = from else {
        return Err(refused(
            StatusCode::CONFLICT,
            "boot",
            "It has nothing to boot from: no disk, no image, no network.",
        ));
    };
    volume
        .take_lease(uuid, name, generation)
        .map_err(|why| refused(StatusCode::CONFLICT, "lease", why))?;
    volume.write(uuid, name, generation, 4096);
    if let Some(record) = volume.records.get_mut(uuid) {
        record.boot.once = None;
    }
    let mut guest = Guest::started(uid, generation, now, from);
    guest.now = volume.records.get(uuid).map(Record::size);
    let record = volume.records.get_mut(uuid);
    let chain = record.as_ref().and_then(|r| r.chain.as_deref());
    guest.spoilt = guest.from == "disk" && super::questions::spoilt(chain);
    if let Some(chain) = record.and_then(|r| r.chain.as_mut()) {
        chain.rests_until(now);
        // It goes on with the memory that was kept, as if it had never been off.
        if let Some(kept) = chain.resumes.take() {
            guest.started = now - kept.up;
            "disk".clone_into(&mut guest.from);
        }
    }
    host.guests.insert(uuid.to_owned(), guest);
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::super::super::storage::volume::Lease;
    use crate::{SKARHOLM, scenario::Scenario, world::World};
    use std::path::Path;

    fn open(dir: &Path) -> World {
        let demo: Scenario = serde_json::from_str(SKARHOLM).unwrap();
        World::open(dir, &demo, "127.77", 1.0).unwrap()
    }

    /// The lease of the first machine that is off on a volume which the host has guests on; changed, if told so.
    fn lease(world: &World, host: &str, set: Option<Lease>) -> Lease {
        let mut state = world.lock();
        let guest = state.hosts[host].guests.values().next().unwrap();
        let uid = guest.volume.clone();
        let running: Vec<String> = state
            .hosts
            .values()
            .flat_map(|h| h.guests.keys().cloned())
            .collect();
        let records = &mut state.volumes.get_mut(&uid).unwrap().records;
        let mut off = records
            .iter_mut()
            .filter(|(uuid, _)| !running.contains(uuid));
        let record = off.next().unwrap().1;
        if let Some(set) = set {
            record.lease = set;
            world.save_volume(&state, &uid);
            return Lease::default();
        }
        record.lease.clone()
    }

    /// What was written when everything ended in the middle of a start: the lease is taken, and nothing runs.
    #[test]
    fn a_lease_that_nobody_runs_under_is_given_back_when_the_host_comes_up() {
        let dir = tempfile::tempdir().unwrap();
        let held = |holder: &str| Lease {
            generation: 7,
            holder: Some(holder.to_owned()),
        };
        let world = open(dir.path());
        lease(&world, "eider-01", Some(held("eider-01")));
        drop(world);
        let world = open(dir.path());
        let now = lease(&world, "eider-01", None);
        assert_eq!(
            (now.holder, now.generation),
            (None, 7),
            "it proves that it doesn't run it"
        );
        lease(&world, "eider-01", Some(held("nobody-of-ours")));
        drop(world);
        let now = lease(&open(dir.path()), "eider-01", None);
        assert_eq!(
            now.holder.as_deref(),
            Some("nobody-of-ours"),
            "not its own to give back"
        );
    }

    #[test]
    fn only_the_lease_that_was_proved_dead_is_ended() {
        let dir = tempfile::tempdir().unwrap();
        let world = open(dir.path());
        let (uid, uuid) = {
            let state = world.lock();
            let (uuid, guest) = state.hosts["eider-01"].guests.iter().next().unwrap();
            (guest.volume.clone(), uuid.clone())
        };
        world.power("eider-01", false);
        let mut state = world.lock();
        let volume = state.volumes.get_mut(&uid).unwrap();
        let generation = volume.records[&uuid].lease.generation;
        volume.end_lease(&uuid, "eider-02", generation);
        volume.end_lease(&uuid, "eider-01", generation + 1);
        assert!(
            volume
                .take_lease(&uuid, "eider-02", generation + 1)
                .is_err(),
            "no proof of that"
        );
        volume.end_lease(&uuid, "eider-01", generation);
        volume
            .take_lease(&uuid, "eider-02", generation + 1)
            .unwrap();
    }
}
