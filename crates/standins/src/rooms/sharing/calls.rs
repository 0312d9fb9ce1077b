//! The calls: a shared disk made, given to a machine, taken from it, and shared no more.

use super::disk::{Share, SharedDisk};
use crate::{
    agent::{
        change::{Outcome, keyed},
        owner_only, refused, say,
    },
    fault::Device,
    rooms::{
        hardware::unattached::Spare,
        records::calls::home,
        snapshots::blocks::Written,
        storage::volume::{Disk, Record, Volume},
    },
    world::State,
};
use axum::{
    Json,
    extract::{Path, State as Extract},
    http::{HeaderMap, StatusCode},
    response::Response,
};
use serde::Deserialize;
use serde_json::json;
use uuid::Uuid;

fn conflict(code: &str, words: impl Into<String>) -> Response {
    refused(StatusCode::CONFLICT, code, words)
}

fn missing(words: &str) -> Response {
    refused(StatusCode::NOT_FOUND, "disk", words)
}

/// A change of a volume's shared disks.
fn on_volume(
    device: &Device,
    headers: &HeaderMap,
    (uid, key): (&str, Uuid),
    act: impl FnOnce(&mut State, i64) -> Result<(), Response>,
) -> Response {
    if let Err(no) = owner_only(device, headers) {
        return no;
    }
    let host = device.name.clone();
    keyed(
        device,
        headers,
        &format!("disk:{uid}/{key}"),
        |state, now| -> Outcome {
            let mounted = state
                .hosts
                .get(&host)
                .is_some_and(|h| h.mounted.contains(uid));
            if !mounted || !state.reaches(&host, uid) {
                return Err(conflict("volume", "The volume is not mounted."));
            }
            act(state, now)?;
            let volume = &state.volumes[uid];
            Ok(json!({"shared": volume.shared.told(), "unattached": volume.unattached.told()}))
        },
    )
}

fn volume<'a>(state: &'a mut State, uid: &str) -> Result<&'a mut Volume, Response> {
    state
        .volumes
        .get_mut(uid)
        .ok_or_else(|| conflict("volume", "The volume is gone."))
}

#[derive(Deserialize)]
pub(crate) struct Make {
    name: String,
    size: u64,
    #[serde(default)]
    thick: bool,
    controller: u8,
    unit: u8,
    /// From the unattached disk of this identity.
    #[serde(default)]
    kept: bool,
}

pub(crate) async fn make(
    Extract(device): Extract<Device>,
    Path((uid, key)): Path<(String, Uuid)>,
    headers: HeaderMap,
    Json(ask): Json<Make>,
) -> Response {
    on_volume(&device, &headers, (&uid, key), |state, _| {
        let volume = volume(state, &uid)?;
        if volume.shared.disks.contains_key(&key) {
            return Err(conflict("exists", "There is such a shared disk already."));
        }
        let (disk, content) = if ask.kept {
            let there = volume.unattached.disks.get(&key);
            if there.is_none_or(|d| d.deleted.is_some()) {
                return Err(missing("No such unattached disk lies there."));
            }
            match volume.unattached.take(key) {
                Some(spare) => (spare.disk, spare.content),
                None => return Err(missing("No such unattached disk lies there.")),
            }
        } else {
            let needs = if ask.thick { ask.size } else { 0 };
            if needs > volume.free() {
                let words = format!("{} bytes are free, {needs} are needed.", volume.free());
                return Err(refused(StatusCode::INSUFFICIENT_STORAGE, "full", words));
            }
            let disk = Disk {
                key,
                size: ask.size,
                thick: ask.thick,
                written: 0,
                lock: 0,
            };
            (disk, Written::default())
        };
        let shared = SharedDisk::new(disk, content, ask.name.clone(), (ask.controller, ask.unit));
        volume.shared.disks.insert(key, shared);
        volume.shared.seq += 1;
        state.called(&key.to_string(), &ask.name);
        Ok(())
    })
}

/// Nobody has it any more: it lies unattached.
pub(crate) async fn end(
    Extract(device): Extract<Device>,
    Path((uid, key)): Path<(String, Uuid)>,
    headers: HeaderMap,
) -> Response {
    on_volume(&device, &headers, (&uid, key), |state, now| {
        if let Some((_, name)) = state.nodes(key).first() {
            return Err(conflict("used", format!("{name} has it.")));
        }
        let volume = volume(state, &uid)?;
        let Some(shared) = volume.shared.disks.remove(&key) else {
            return Err(missing("There is no such shared disk."));
        };
        volume.shared.seq += 1;
        volume.unattached.put(Spare {
            disk: shared.disk,
            content: shared.content,
            had: shared.name,
            since: now,
            deleted: None,
        });
        Ok(())
    })
}

/// A change of what one machine shares, at the host where it is on, or at any that reaches its record.
fn on_machine(
    device: &Device,
    headers: &HeaderMap,
    uuid: &str,
    (disk, act): (
        Uuid,
        impl FnOnce(&mut State, &mut Record) -> Result<(), Response>,
    ),
) -> Response {
    if let Err(no) = owner_only(device, headers) {
        return no;
    }
    let host = device.name.clone();
    keyed(device, headers, uuid, |state, now| -> Outcome {
        let home = &home(state, &host, uuid)?;
        let record = state.volumes[home].records.get(uuid).cloned();
        let Some(mut record) = record else {
            return Err(missing("The machine is gone."));
        };
        if record.lease.holder.as_ref().is_some_and(|h| *h != host) {
            return Err(conflict("elsewhere", "The machine is on at another host."));
        }
        let writes = state
            .volumes
            .values()
            .filter_map(|v| v.shared.disks.get(&disk))
            .any(|d| d.holder.as_ref().is_some_and(|h| h.machine == uuid));
        if writes && record.lease.holder.is_some() {
            return Err(conflict("holder", "Its guest holds the reservation."));
        }
        act(state, &mut record)?;
        let name = state
            .volumes
            .values()
            .find_map(|v| v.shared.disks.get(&disk))
            .map(|d| d.name.clone());
        if let Some(volume) = state.volumes.get_mut(home) {
            volume.records.insert(uuid.to_owned(), record);
        }
        if let Some(name) = name {
            state.called(&disk.to_string(), &name);
        }
        let told = state
            .volumes
            .values()
            .find(|v| v.shared.disks.contains_key(&disk))
            .and_then(|v| v.shared.told());
        Ok(
            json!({"machine": say::machine_now(state, &state.hosts[&host], uuid, now), "shared": told}),
        )
    })
}

#[derive(Deserialize)]
pub(crate) struct Give {
    volume: String,
    controller: u8,
    unit: u8,
}

pub(crate) async fn give(
    Extract(device): Extract<Device>,
    Path((uuid, key)): Path<(String, Uuid)>,
    headers: HeaderMap,
    Json(ask): Json<Give>,
) -> Response {
    let host = device.name.clone();
    let act = |state: &mut State, record: &mut Record| {
        let there = state
            .volumes
            .get(&ask.volume)
            .is_some_and(|v| v.shared.disks.contains_key(&key));
        if !there {
            return Err(missing("There is no such shared disk."));
        }
        if record.lease.holder.is_some() && !state.reaches(&host, &ask.volume) {
            return Err(conflict("volume", "This host has no path to the volume."));
        }
        let taken =
            |s: &&Share| s.disk != key && (s.controller, s.unit) == (ask.controller, ask.unit);
        if record.shares.iter().any(|s| taken(&s)) {
            return Err(conflict("slot", "It has another disk there."));
        }
        record.shares.retain(|s| s.disk != key);
        record.shares.push(Share {
            volume: ask.volume.clone(),
            disk: key,
            controller: ask.controller,
            unit: ask.unit,
            mode: Share::mode(true).to_owned(),
        });
        Ok(())
    };
    on_machine(&device, &headers, &uuid, (key, act))
}

pub(crate) async fn take(
    Extract(device): Extract<Device>,
    Path((uuid, key)): Path<(String, Uuid)>,
    headers: HeaderMap,
) -> Response {
    let node = uuid.clone();
    let act = |state: &mut State, record: &mut Record| {
        record.shares.retain(|s| s.disk != key);
        for volume in state.volumes.values_mut() {
            let Some(disk) = volume.shared.disks.get_mut(&key) else {
                continue;
            };
            if disk.leaves(&node) {
                volume.shared.seq += 1;
            }
        }
        Ok(())
    };
    on_machine(&device, &headers, &uuid, (key, act))
}
