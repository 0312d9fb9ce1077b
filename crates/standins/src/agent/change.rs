//! Changes: each carries a key and a fence. The answer is kept with the effect, so that a repeated call has none.

use super::{check_password, history::admit, owner_only, power::boot_fits, refused, say, sha};
use crate::{
    fault::Device,
    host::Owner,
    network::Nic,
    volume::{Boot, Disk, Lease, Memory, Record, Temper},
    world::State,
};
use axum::{
    Json,
    extract::{Path, State as Extract},
    http::{HeaderMap, StatusCode},
    response::{IntoResponse, Response},
};
use serde::Deserialize;
use serde_json::{Value, json};
use std::collections::{BTreeMap, BTreeSet};

pub(super) type Outcome = Result<Value, Response>;

fn header<'a>(headers: &'a HeaderMap, name: &str) -> Option<&'a str> {
    headers.get(name).and_then(|h| h.to_str().ok())
}

/// Runs one change: the kept answer if the key is known, else the fence, else the effect, kept and saved.
pub(super) fn keyed(
    device: &Device,
    headers: &HeaderMap,
    object: &str,
    act: impl FnOnce(&mut State, i64) -> Outcome,
) -> Response {
    device.world.settle(&device.name);
    let (Some(key), Some(fence)) = (
        header(headers, "step-key"),
        header(headers, "fence").and_then(|f| f.parse::<u64>().ok()),
    ) else {
        return refused(
            StatusCode::BAD_REQUEST,
            "headers",
            "Step-Key and Fence are required.",
        );
    };
    let now = device.world.now();
    let mut state = device.world.lock();
    let known = state
        .hosts
        .get(&device.name)
        .and_then(|h| h.answers.get(key))
        .cloned();
    if let Some((status, body)) = known {
        return (
            StatusCode::from_u16(status).unwrap_or(StatusCode::OK),
            Json(body),
        )
            .into_response();
    }
    if let Err(no) = admit(&mut state, &device.name, headers, fence) {
        return no;
    }
    if let Err(highest) = raise_fence(&mut state, &device.name, object, fence) {
        return refused(
            StatusCode::PRECONDITION_FAILED,
            "stale_fence",
            format!("{object} was taken at {highest}; {fence} is older."),
        );
    }
    state.about_to(object);
    let mut touched = beneath(&state, &device.name, object);
    let answer = match act(&mut state, now) {
        Ok(body) => {
            state.about_to(object);
            state.did(&device.name);
            if let Some(host) = state.hosts.get_mut(&device.name) {
                host.answers.insert(key.to_owned(), (200, body.clone()));
                *host.effects.entry(key.to_owned()).or_insert(0) += 1;
            }
            Json(body).into_response()
        }
        Err(no) => no,
    };
    touched.extend(beneath(&state, &device.name, object));
    for uid in touched {
        device.world.volume_changed(&uid);
    }
    device.world.host_changed(&device.name);
    answer
}

/// The volumes on which something is changed when this object is.
fn beneath(state: &State, host: &str, object: &str) -> BTreeSet<String> {
    let named = object
        .strip_prefix("volume:")
        .or_else(|| object.strip_prefix("image:")?.split('/').next());
    if let Some(uid) = named {
        return BTreeSet::from([uid.to_owned()]);
    }
    if object == "host" {
        let mounted = state.hosts.get(host).map(|h| h.mounted.clone());
        return mounted.unwrap_or_default();
    }
    let volumes = state.volumes.iter();
    volumes
        .filter(|(_, v)| v.records.contains_key(object))
        .map(|(uid, _)| uid.clone())
        .collect()
}

/// A change whose effect is looked up rather than kept by its key: checks owner and fence, and passes on key and fence.
pub(super) fn fenced<T>(
    device: &Device,
    headers: &HeaderMap,
    object: &str,
    act: impl FnOnce(&mut State, &str, &str, u64) -> Result<T, Response>,
) -> Result<T, Response> {
    owner_only(device, headers)?;
    let (Some(key), Some(fence)) = (
        header(headers, "step-key"),
        header(headers, "fence").and_then(|f| f.parse::<u64>().ok()),
    ) else {
        let words = "Step-Key and Fence are required.";
        return Err(refused(StatusCode::BAD_REQUEST, "headers", words));
    };
    let mut state = device.world.lock();
    admit(&mut state, &device.name, headers, fence)?;
    if let Err(highest) = raise_fence(&mut state, &device.name, object, fence) {
        let words = format!("{object} was taken at {highest}; {fence} is older.");
        return Err(refused(
            StatusCode::PRECONDITION_FAILED,
            "stale_fence",
            words,
        ));
    }
    act(&mut state, &device.name, key, fence)
}

/// A change that only whoever owns the host may make; `act` gets the host's name.
pub(super) fn by_owner(
    device: &Device,
    headers: &HeaderMap,
    object: &str,
    act: impl FnOnce(&mut State, &str) -> Outcome,
) -> Response {
    if let Err(no) = owner_only(device, headers) {
        return no;
    }
    keyed(device, headers, object, |state, _| act(state, &device.name))
}

/// Keeps the highest fence of an object: of a machine on its volume, of the host itself here.
fn raise_fence(state: &mut State, host: &str, object: &str, fence: u64) -> Result<(), u64> {
    let State { hosts, volumes, .. } = state;
    let Some(host) = hosts.get_mut(host) else {
        return Ok(());
    };
    let slot = if object == "host" {
        &mut host.fence
    } else if let Some(uid) = object.strip_prefix("volume:") {
        match volumes.get_mut(uid) {
            Some(volume) => volume.fences.entry("volume".to_owned()).or_insert(0),
            None => return Ok(()),
        }
    } else if let Some((uid, _)) = object
        .strip_prefix("image:")
        .and_then(|o| o.split_once('/'))
    {
        match volumes.get_mut(uid) {
            Some(volume) => volume.fences.entry(object.to_owned()).or_insert(0),
            None => return Ok(()),
        }
    } else {
        let volume = host.mounted.iter().find(|uid| {
            volumes
                .get(*uid)
                .is_some_and(|v| v.records.contains_key(object))
        });
        match volume.and_then(|uid| volumes.get_mut(uid)) {
            Some(volume) => volume.fences.entry(object.to_owned()).or_insert(0),
            None => return Ok(()),
        }
    };
    if fence < *slot {
        return Err(*slot);
    }
    *slot = fence;
    Ok(())
}

#[derive(Deserialize)]
pub(super) struct Claim {
    installation: String,
    name: String,
    password: String,
}

pub(super) async fn claim(
    Extract(device): Extract<Device>,
    headers: HeaderMap,
    Json(ask): Json<Claim>,
) -> Response {
    // The kept answer holds a key: only whoever knows the password that it was claimed with gets it again.
    let repeated = {
        let state = device.world.lock();
        let host = state.hosts.get(&device.name);
        let known = header(&headers, "step-key")
            .is_some_and(|key| host.is_some_and(|h| h.answers.contains_key(key)));
        known
            && host.is_some_and(|h| h.claimed_with.as_deref() == Some(sha(&ask.password).as_str()))
    };
    if !repeated && let Err(no) = check_password(&device, &ask.password) {
        return no;
    }
    let name = device.name.clone();
    keyed(&device, &headers, "host", |state, now| {
        let key = format!(
            "{}{}",
            uuid::Uuid::new_v4().simple(),
            uuid::Uuid::new_v4().simple()
        );
        let secret = uuid::Uuid::new_v4().simple().to_string();
        let host = state
            .hosts
            .get_mut(&name)
            .ok_or_else(|| StatusCode::NOT_FOUND.into_response())?;
        if let Some(owner) = &host.owner {
            return Err(refused(
                StatusCode::CONFLICT,
                "owned",
                format!("Claimed by {} already.", owner.name),
            ));
        }
        host.owner = Some(Owner {
            installation: ask.installation,
            name: ask.name,
            key: sha(&key),
        });
        host.bmc_password.clone_from(&secret);
        host.claimed_with = Some(sha(&ask.password));
        let pin = crate::server::pin_of(&host.bmc_identity.certificate).unwrap_or_default();
        let bmc = json!({"address": host.bmc_address, "user": "zastrugi", "password": secret, "pin": pin});
        let host = &state.hosts[&name];
        Ok(json!({"key": key, "bmc": bmc, "state": say::report(state, host, now)}))
    })
}

pub(super) async fn release(Extract(device): Extract<Device>, headers: HeaderMap) -> Response {
    let name = device.name.clone();
    let repeated = header(&headers, "step-key").is_some_and(|key| {
        device
            .world
            .lock()
            .hosts
            .get(&name)
            .is_some_and(|h| h.answers.contains_key(key))
    });
    if !repeated && let Err(no) = owner_only(&device, &headers) {
        return no;
    }
    keyed(&device, &headers, "host", |state, _| {
        let host = state
            .hosts
            .get_mut(&name)
            .ok_or_else(|| StatusCode::NOT_FOUND.into_response())?;
        if !host.guests.is_empty() {
            return Err(refused(
                StatusCode::CONFLICT,
                "busy",
                format!("{} machines run here.", host.guests.len()),
            ));
        }
        host.owner = None;
        host.claimed_with = None;
        host.answers.clear();
        host.cluster = None;
        "first-light".clone_into(&mut host.password);
        "first-light".clone_into(&mut host.bmc_password);
        host.fence = 0;
        host.seen = Default::default();
        Ok(json!({}))
    })
}

#[derive(Deserialize)]
pub(super) struct Join {
    name: String,
    /// A volume to mount on the way.
    #[serde(default)]
    volume: Option<String>,
}

pub(super) async fn join(
    Extract(device): Extract<Device>,
    headers: HeaderMap,
    Json(ask): Json<Join>,
) -> Response {
    if let Err(no) = owner_only(&device, &headers) {
        return no;
    }
    let name = device.name.clone();
    keyed(&device, &headers, "host", |state, _| {
        if let Some(uid) = &ask.volume {
            super::storage::mount(state, &name, uid, &ask.name)?;
        }
        let host = state
            .hosts
            .get_mut(&name)
            .ok_or_else(|| StatusCode::NOT_FOUND.into_response())?;
        host.cluster = Some(ask.name);
        let Some(uid) = ask.volume else {
            return Ok(json!({"machines": []}));
        };
        let records = state.volumes.get(&uid).map(say::records);
        let paths = super::storage::paths(state, &name, &uid);
        Ok(json!({"machines": records.unwrap_or_default(), "paths": paths}))
    })
}

pub(super) async fn leave(Extract(device): Extract<Device>, headers: HeaderMap) -> Response {
    if let Err(no) = owner_only(&device, &headers) {
        return no;
    }
    let name = device.name.clone();
    keyed(&device, &headers, "host", |state, _| {
        let host = state
            .hosts
            .get_mut(&name)
            .ok_or_else(|| StatusCode::NOT_FOUND.into_response())?;
        if !host.guests.is_empty() {
            return Err(refused(
                StatusCode::CONFLICT,
                "busy",
                format!("{} machines run here.", host.guests.len()),
            ));
        }
        host.cluster = None;
        host.mounted.clear();
        Ok(json!({}))
    })
}

#[derive(Deserialize)]
pub(super) struct Create {
    volume: String,
    name: String,
    vcpus: u32,
    memory: Memory,
    video: u64,
    disks: Vec<Disk>,
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
}

/// The host has every network, and nobody answers at an address that a card shall have.
fn cards_fit(state: &State, host: &str, nics: &[Nic]) -> Result<(), Response> {
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

pub(super) async fn create(
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
        cards_fit(state, &name, &ask.nics)?;
        boot_fits(state, &name, &ask.boot)?;
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
        let disks: Vec<Disk> = ask
            .disks
            .iter()
            .map(|d| Disk {
                written: if d.thick { 0 } else { d.size / 50 },
                ..*d
            })
            .collect();
        let needs: u64 = disks
            .iter()
            .map(|d| if d.thick { d.size } else { d.written })
            .sum();
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
        let guest_key = guest_key(&ask.name)
            .map_err(|e| refused(StatusCode::INTERNAL_SERVER_ERROR, "key", e.to_string()))?;
        volume.records.insert(
            uuid,
            Record {
                name: ask.name,
                vcpus: ask.vcpus,
                memory: ask.memory,
                video: ask.video,
                disks,
                nics: ask.nics,
                boot: ask.boot,
                seed: ask.seed.as_deref().and_then(crate::seed::Seed::keep),
                labels: ask.labels,
                tier: ask.tier,
                apart: ask.apart,
                protected: ask.protected,
                note: ask.note,
                virtual_hardware: ask.virtual_hardware,
                guest_key: guest_key.clone(),
                created: now,
                deleted: false,
                lease: Lease::default(),
                temper: Temper::default(),
            },
        );
        Ok(json!({"guest_key": guest_key}))
    })
}

/// Each machine gets its own key pair; only the fingerprint of the public half leaves the host.
fn guest_key(name: &str) -> Result<String, rcgen::Error> {
    let key = rcgen::KeyPair::generate()?;
    let certificate = rcgen::CertificateParams::new(vec![name.to_owned()])?.self_signed(&key)?;
    Ok(crate::server::pin_of(&certificate.pem()).unwrap_or_default())
}

#[derive(Deserialize)]
pub(super) struct Rewrite {
    name: Option<String>,
    vcpus: Option<u32>,
    memory: Option<Memory>,
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
    let State { hosts, volumes, .. } = state;
    let Some(host) = hosts.get(host) else {
        return Err(StatusCode::NOT_FOUND.into_response());
    };
    let found = host.mounted.iter().find(|uid| {
        volumes
            .get(*uid)
            .is_some_and(|v| v.records.contains_key(uuid))
    });
    let record = found
        .and_then(|uid| volumes.get_mut(uid))
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

pub(super) async fn rewrite(
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
        on_record(state, &name, &uuid, |record, on| {
            if on && (ask.vcpus.is_some() || ask.memory.is_some() || ask.deleted == Some(true)) {
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
            record.memory = ask.memory.unwrap_or(record.memory);
            record.deleted = ask.deleted.unwrap_or(record.deleted);
            Ok(())
        })
    })
}

/// Removes a machine for good; it must have been deleted before.
pub(super) async fn remove(
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
        for volume in state.volumes.values_mut() {
            volume.records.remove(&uuid);
        }
        Ok(json!({}))
    })
}
