//! Machines' records on their volume: made, rewritten, removed.

use super::{power::boot_fits, seed::Seed};
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
                seed: ask.seed.as_deref().and_then(Seed::keep),
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
                chain: None,
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
pub(crate) struct Rewrite {
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
        for volume in state.volumes.values_mut() {
            volume.records.remove(&uuid);
        }
        Ok(json!({}))
    })
}
