//! Machines' records on their volume: made, rewritten, removed.

use super::{firmware::Wanted, power::boot_fits, seed::Seed};
use crate::{
    agent::{
        change::{Outcome, keyed},
        owner_only, refused,
    },
    fault::Device,
    rooms::{
        networks::network::Nic,
        storage::volume::{Boot, Disk, Lease, Memory, Record, Temper},
    },
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
use std::collections::BTreeMap;

#[derive(Deserialize)]
pub(crate) struct Create {
    pub(crate) volume: String,
    name: String,
    vcpus: u32,
    #[serde(default)]
    vcpus_max: u32,
    memory: Memory,
    video: u64,
    pub(crate) disks: Vec<Disk>,
    nics: Vec<Nic>,
    /// A small ISO 9660 image in base64, read by the guest at its first boot.
    #[serde(default)]
    seed: Option<String>,
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
    #[serde(default)]
    boot: Boot,
    #[serde(default)]
    firmware: Option<Wanted>,
}

/// A new disk, with an empty file system.
pub(crate) fn formatted(disk: &Disk) -> Disk {
    let key = match disk.key.is_nil() {
        true => uuid::Uuid::new_v4(),
        false => disk.key,
    };
    Disk {
        key,
        written: if disk.thick { 0 } else { disk.size / 50 },
        ..*disk
    }
}

/// The host has every network, and nobody answers at an address that a card shall have.
pub(crate) fn cards_fit(state: &State, host: &str, nics: &[Nic]) -> Result<(), Response> {
    for nic in nics {
        let Some(network) = &nic.network else {
            continue;
        };
        let there = state
            .hosts
            .get(host)
            .is_some_and(|h| h.networks.contains_key(network));
        if !there {
            let words = format!("This host has no network {network}.");
            return Err(refused(StatusCode::CONFLICT, "network", words));
        }
        for address in &nic.addresses {
            if let Some(who) = state.answers_at(host, network, address) {
                let words = format!("{address} answers already: {who}.");
                return Err(refused(StatusCode::CONFLICT, "address", words));
            }
        }
    }
    Ok(())
}

pub(crate) async fn create(
    Extract(device): Extract<Device>,
    Path(uuid): Path<String>,
    headers: HeaderMap,
    Json(ask): Json<Create>,
) -> Response {
    if let Err(no) = owner_only(&device, &headers) {
        return no;
    }
    let name = device.name.clone();
    keyed(&device, &headers, &uuid.clone(), |state, now| {
        let sees = state.reaches(&name, &ask.volume)
            && state
                .hosts
                .get(&name)
                .is_some_and(|h| h.mounted.contains(&ask.volume));
        fits(state, &name, &ask)?;
        let volumes = &mut state.volumes;
        let Some(volume) = volumes.get_mut(&ask.volume).filter(|_| sees) else {
            return Err(refused(
                StatusCode::CONFLICT,
                "volume",
                format!("The volume {} is not mounted.", ask.volume),
            ));
        };
        if volume.records.contains_key(&uuid) {
            return Err(refused(
                StatusCode::CONFLICT,
                "exists",
                "There is such a machine already.",
            ));
        }
        let disks: Vec<Disk> = ask.disks.iter().map(formatted).collect();
        let takes = |d: &Disk| if d.thick { d.size } else { d.written };
        let needs: u64 = disks.iter().map(takes).sum();
        let free = volume.capacity.saturating_sub(volume.used());
        if needs > free {
            return Err(refused(
                StatusCode::INSUFFICIENT_STORAGE,
                "full",
                format!(
                    "{} is full: {free} bytes are free, {needs} are needed.",
                    volume.name
                ),
            ));
        }
        let (record, guest_key) = made(ask, disks, now)?;
        volume.records.insert(uuid, record);
        Ok(json!({"guest_key": guest_key}))
    })
}

/// Whether the host has what its cards and its drive need.
pub(crate) fn fits(state: &State, host: &str, ask: &Create) -> Result<(), Response> {
    cards_fit(state, host, &ask.nics)?;
    boot_fits(state, host, &ask.boot)
}

/// A new machine's record, with a key pair of its own.
pub(crate) fn made(ask: Create, disks: Vec<Disk>, now: i64) -> Result<(Record, String), Response> {
    let guest_key = guest_key(&ask.name)
        .map_err(|e| refused(StatusCode::INTERNAL_SERVER_ERROR, "key", e.to_string()))?;
    let record = Record {
        name: ask.name,
        vcpus: ask.vcpus,
        vcpus_max: ask.vcpus_max,
        memory: ask.memory,
        video: ask.video,
        disks,
        nics: ask.nics,
        boot: ask.boot,
        seed: ask.seed.as_deref().and_then(Seed::keep),
        first_boot: None,
        filled: None,
        labels: ask.labels,
        tier: ask.tier,
        apart: ask.apart,
        protected: ask.protected,
        note: ask.note,
        virtual_hardware: ask.virtual_hardware,
        generation_id: uuid::Uuid::new_v4(),
        guest_key: guest_key.clone(),
        created: now,
        deleted: false,
        lease: Lease::default(),
        temper: Temper::default(),
        chain: None,
        copied: None,
        whole: None,
        shares: vec![],
        firmware: ask.firmware.unwrap_or_default().made(),
    };
    Ok((record, guest_key))
}

/// Each machine gets its own key pair; only the fingerprint of the public half leaves the host.
fn guest_key(name: &str) -> Result<String, rcgen::Error> {
    let key = rcgen::KeyPair::generate()?;
    let certificate = rcgen::CertificateParams::new(vec![name.to_owned()])?.self_signed(&key)?;
    Ok(crate::server::pin_of(&certificate.pem()).unwrap_or_default())
}

#[derive(Deserialize)]
pub(crate) struct Rewrite {
    name: Option<String>,
    vcpus: Option<u32>,
    vcpus_max: Option<u32>,
    memory: Option<Memory>,
    /// The sizes of all its disks; none becomes smaller.
    disks: Option<Vec<u64>>,
    deleted: Option<bool>,
    boot: Option<Boot>,
}

/// Finds the record, changes it, answers it.
fn on_record(
    state: &mut State,
    host: &str,
    uuid: &str,
    edit: impl FnOnce(&mut Record, bool) -> Result<(), Response>,
) -> Outcome {
    let home = state.home(host, uuid);
    let State { hosts, volumes, .. } = state;
    let Some(host) = hosts.get(host) else {
        return Err(StatusCode::NOT_FOUND.into_response());
    };
    let record = home
        .filter(|uid| host.mounted.contains(uid))
        .and_then(|uid| volumes.get_mut(&uid))
        .and_then(|v| v.records.get_mut(uuid));
    let Some(record) = record else {
        return Err(refused(
            StatusCode::NOT_FOUND,
            "machine",
            "No volume that this host sees has such a machine.",
        ));
    };
    let on = record.lease.holder.is_some();
    edit(record, on)?;
    Ok(json!({}))
}

pub(crate) async fn rewrite(
    Extract(device): Extract<Device>,
    Path(uuid): Path<String>,
    headers: HeaderMap,
    Json(ask): Json<Rewrite>,
) -> Response {
    if let Err(no) = owner_only(&device, &headers) {
        return no;
    }
    let name = device.name.clone();
    keyed(&device, &headers, &uuid.clone(), |state, _| {
        if let Some(boot) = &ask.boot {
            boot_fits(state, &name, boot)?;
        }
        if ask.vcpus.is_some() || ask.vcpus_max.is_some() || ask.memory.is_some() {
            keeps_running(state, &uuid, ask.memory);
        }
        if let Some(sizes) = &ask.disks {
            grow_disks(state, &name, &uuid, sizes)?;
        }
        on_record(state, &name, &uuid, |record, on| {
            if on && ask.deleted == Some(true) {
                return Err(refused(
                    StatusCode::CONFLICT,
                    "running",
                    format!("{} is on.", record.name),
                ));
            }
            if let Some(name) = ask.name {
                record.name = name;
            }
            record.boot = ask.boot.unwrap_or_else(|| record.boot.clone());
            record.vcpus = ask.vcpus.unwrap_or(record.vcpus);
            record.vcpus_max = ask.vcpus_max.unwrap_or(record.vcpus_max);
            record.memory = ask.memory.unwrap_or(record.memory);
            record.deleted = ask.deleted.unwrap_or(record.deleted);
            Ok(())
        })
    })
}

/// A guest that runs goes on with what it was started with; what is always kept for it counts at once.
fn keeps_running(state: &mut State, uuid: &str, memory: Option<Memory>) {
    let State { hosts, volumes, .. } = state;
    let mut guests = hosts.values_mut().filter_map(|h| h.guests.get_mut(uuid));
    let Some(guest) = guests.next() else { return };
    let record = volumes.get(&guest.volume).and_then(|v| v.records.get(uuid));
    let Some(record) = record else { return };
    let mut now = guest.now.unwrap_or_else(|| record.size());
    if let Some(memory) = memory {
        now.memory.kept = memory.kept.min(now.memory.size);
    }
    guest.now = Some(now);
}

/// Disks become larger where their volume has room; the guest sees it at once.
fn grow_disks(state: &mut State, host: &str, uuid: &str, sizes: &[u64]) -> Result<(), Response> {
    let conflict = |code: &str, words: String| refused(StatusCode::CONFLICT, code, words);
    let home = state.home(host, uuid);
    let Some(volume) = home.and_then(|uid| state.volumes.get_mut(&uid)) else {
        return Ok(());
    };
    let free = volume.free();
    let Some(record) = volume.records.get_mut(uuid) else {
        return Ok(());
    };
    if sizes.len() != record.disks.len() {
        let words = format!("It has {} disks, not {}.", record.disks.len(), sizes.len());
        return Err(conflict("disks", words));
    }
    let pairs = || sizes.iter().zip(&record.disks);
    if pairs().any(|(size, disk)| *size < disk.size) {
        return Err(conflict("smaller", "A disk is never made smaller.".into()));
    }
    let needs: u64 = pairs()
        .filter(|(_, d)| d.thick)
        .map(|(s, d)| s - d.size)
        .sum();
    if needs > free {
        let words = format!("{free} bytes are free, {needs} are needed.");
        return Err(refused(StatusCode::INSUFFICIENT_STORAGE, "full", words));
    }
    for (disk, size) in record.disks.iter_mut().zip(sizes) {
        disk.size = *size;
    }
    Ok(())
}

#[derive(Deserialize)]
pub(crate) struct Grow {
    vcpus: Option<u32>,
    /// Its whole size afterwards, bytes.
    memory: Option<u64>,
}

/// Gives a guest that runs more vCPUs, or memory, up to what it was started to take.
pub(crate) async fn grow(
    Extract(device): Extract<Device>,
    Path(uuid): Path<String>,
    headers: HeaderMap,
    Json(ask): Json<Grow>,
) -> Response {
    if let Err(no) = owner_only(&device, &headers) {
        return no;
    }
    let name = device.name.clone();
    keyed(&device, &headers, &uuid.clone(), |state, now| {
        let conflict = |code: &str, words: String| refused(StatusCode::CONFLICT, code, words);
        let State { hosts, volumes, .. } = state;
        let guest = hosts.get_mut(&name).and_then(|h| h.guests.get_mut(&uuid));
        let Some(guest) = guest else {
            return Err(conflict("off", "The machine is not on here.".into()));
        };
        let record = volumes
            .get(&guest.volume)
            .and_then(|v| v.records.get(&uuid));
        let Some(record) = record else {
            return Err(conflict("machine", "There is no such machine.".into()));
        };
        let has = guest.now.unwrap_or_else(|| record.size());
        let mut then = has;
        then.vcpus = ask.vcpus.unwrap_or(has.vcpus);
        then.memory.size = ask.memory.unwrap_or(has.memory.size);
        then.memory.kept = record.memory.kept.min(then.memory.size);
        let less = then.vcpus < has.vcpus || then.memory.size < has.memory.size;
        let beyond = then.vcpus > has.vcpus_max || then.memory.size > has.memory.max;
        if less || beyond {
            let words =
                "A guest that runs is given nothing less, and no more than it was started to take.";
            return Err(conflict("size", words.into()));
        }
        let silent = guest.hung.is_some() || guest.mute.is_some() || !record.temper.agent;
        if silent || record.temper.stiff || guest.phase(now, record.temper) != "up" {
            return Err(conflict(
                "guest",
                "Its guest does not take it while it runs.".into(),
            ));
        }
        guest.now = Some(then);
        state.did_what(&name, &format!("grow {uuid}"));
        let host = &state.hosts[&name];
        Ok(crate::agent::say::machine_now(state, host, &uuid, now).unwrap_or_default())
    })
}

/// Removes a machine for good; it must have been deleted before.
pub(crate) async fn remove(
    Extract(device): Extract<Device>,
    Path(uuid): Path<String>,
    headers: HeaderMap,
) -> Response {
    if let Err(no) = owner_only(&device, &headers) {
        return no;
    }
    let name = device.name.clone();
    keyed(&device, &headers, &uuid.clone(), |state, _| {
        on_record(state, &name, &uuid, |record, on| {
            if on || !record.deleted {
                return Err(refused(
                    StatusCode::CONFLICT,
                    "kept",
                    format!("{} is not deleted.", record.name),
                ));
            }
            Ok(())
        })?;
        let home = state.home(&name, &uuid);
        if let Some(volume) = home.and_then(|uid| state.volumes.get_mut(&uid)) {
            volume.records.remove(&uuid);
        }
        Ok(json!({}))
    })
}
