//! The calls: a machine made as a copy, a version made and removed, a machine made whole.

use super::{Frozen, copying, seal, takes};
use crate::{
    agent::{change::fenced, owner_only, refused},
    fault::Device,
    rooms::{
        machines::records::{Create, fits, formatted, made},
        packages::{Package, Unpacked, unpacked},
        snapshots::{blocks::Written, chain::Chain, going, seed},
        storage::volume::{Disk, Record},
    },
    world::{State, World},
};
use axum::{
    Json,
    extract::{Path, State as Extract},
    http::{HeaderMap, StatusCode},
    response::{IntoResponse, Response},
};
use serde::Deserialize;
use serde_json::{Value, json};
use std::sync::Arc;
use uuid::Uuid;

/// What a copy is of.
#[derive(Clone, Deserialize)]
pub(crate) struct From {
    #[serde(default)]
    pub(crate) machine: Option<String>,
    #[serde(default)]
    pub(crate) snapshot: Option<String>,
    /// Disks in a file.
    #[serde(default)]
    package: Option<Package>,
    /// Disks that were brought.
    #[serde(default)]
    delivery: Option<At>,
    #[serde(default)]
    volume: Option<String>,
    #[serde(default)]
    template: Option<String>,
}

/// A delivery on a volume.
#[derive(Clone, Deserialize)]
struct At {
    volume: String,
    id: String,
}

#[derive(Clone, Deserialize)]
struct How {
    from: From,
    #[serde(default)]
    dependent: bool,
    #[serde(default)]
    seal: bool,
}

#[derive(Deserialize)]
pub(crate) struct Copy {
    copy: How,
    #[serde(flatten)]
    machine: Create,
}

/// What is read: disks and what is on them at this moment.
pub(crate) struct Read {
    pub(crate) disks: Vec<Disk>,
    pub(crate) content: Vec<Written>,
    /// Its guest has an agent that can seal.
    pub(crate) agent: bool,
}

pub(crate) fn conflict(code: &str, words: impl Into<String>) -> Response {
    refused(StatusCode::CONFLICT, code, words)
}

pub(crate) fn gone(words: &str) -> Response {
    refused(StatusCode::NOT_FOUND, "source", words)
}

pub(crate) fn read(state: &mut State, host: &str, from: &From, now: i64) -> Result<Read, Response> {
    if let (Some(volume), Some(template)) = (&from.volume, &from.template) {
        mounted(state, host, volume)?;
        let found = state
            .volumes
            .get(volume)
            .and_then(|v| v.templates.get(template));
        let found = found.ok_or_else(|| gone("There is no such version on that volume."))?;
        return Ok(Read {
            disks: found.disks.clone(),
            content: found.content.clone(),
            agent: found.agent,
        });
    }
    let Some(uuid) = &from.machine else {
        return Err(refused(
            StatusCode::BAD_REQUEST,
            "source",
            "A copy of what?",
        ));
    };
    going::follow(state, host, uuid, now, 0);
    let mounts = state
        .hosts
        .get(host)
        .map(|h| h.mounted.clone())
        .unwrap_or_default();
    let volumes = mounts.iter().filter(|uid| state.reaches(host, uid));
    let mut records = volumes.filter_map(|uid| state.volumes.get(uid)?.records.get(uuid));
    let record = records
        .next()
        .ok_or_else(|| gone("No volume that this host sees has such a machine."))?;
    let alone = || Box::new(Chain::of(&record.disks, seed(uuid), now));
    let chain = record.chain.clone().unwrap_or_else(alone);
    let layer = match &from.snapshot {
        None => chain.current,
        Some(id) => {
            let snapshot = chain.snapshots.get(id);
            snapshot
                .ok_or_else(|| gone("It has no such snapshot."))?
                .layer
        }
    };
    Ok(Read {
        disks: record
            .disks
            .iter()
            .take(chain.disks_of(layer))
            .copied()
            .collect(),
        content: chain.seen_from(layer),
        agent: record.temper.agent,
    })
}

pub(crate) fn mounted(state: &State, host: &str, uid: &str) -> Result<(), Response> {
    let there = state
        .hosts
        .get(host)
        .is_some_and(|h| h.mounted.contains(uid));
    match there && state.reaches(host, uid) {
        true => Ok(()),
        false => Err(conflict(
            "volume",
            format!("The volume {uid} is not mounted."),
        )),
    }
}

/// Room for so many bytes on a volume.
pub(crate) fn room(state: &State, uid: &str, needs: u64) -> Result<(), Response> {
    let volume = state.volumes.get(uid);
    let free = volume.map_or(0, crate::rooms::storage::volume::Volume::free);
    if needs <= free {
        return Ok(());
    }
    let words = format!("{free} bytes are free, {needs} are needed.");
    Err(refused(StatusCode::INSUFFICIENT_STORAGE, "full", words))
}

/// Removes what makes the guest itself; says what, or why not.
fn sealed(read: &mut Read, wanted: bool, said: &mut Value) {
    if !wanted {
        return;
    }
    if read.agent {
        seal::seal(&mut read.content);
        said["removed"] = json!(seal::REMOVED);
    } else {
        said["unsealed"] = "its guest has no agent that does that".into();
    }
}

/// Done before: what it came to; under way: how far it is; else begun.
pub(crate) fn going_on(state: &mut State, id: &str, now: i64) -> Result<Option<(u64, i64)>, Value> {
    match copying::look(state, id, now) {
        copying::Look::None => Ok(None),
        copying::Look::Running(said) | copying::Look::Failed(said) => Err(said),
        copying::Look::There { copied, took } => Ok(Some((copied, took))),
    }
}

pub(crate) fn answer(device: &Device, uid: &str, said: Result<Value, Response>) -> Response {
    match said {
        Ok(said) => {
            device.world.volume_changed(uid);
            device.world.host_changed(&device.name);
            Json(said).into_response()
        }
        Err(no) => no,
    }
}

pub(crate) async fn copy(
    Extract(device): Extract<Device>,
    Path(uuid): Path<String>,
    headers: HeaderMap,
    Json(ask): Json<Copy>,
) -> Response {
    let now = device.world.now();
    let uid = ask.machine.volume.clone();
    let said = fenced(&device, &headers, &uuid, |state, host, _, _| {
        copied(&device.world, state, host, &uuid, ask, now)
    });
    answer(&device, &uid, said)
}

fn copied(
    world: &Arc<World>,
    state: &mut State,
    host: &str,
    uuid: &str,
    ask: Copy,
    now: i64,
) -> Result<Value, Response> {
    let (how, ask) = (ask.copy, ask.machine);
    let uid = ask.volume.clone();
    if let Some(there) = state.volumes.get(&uid).and_then(|v| v.records.get(uuid)) {
        return there
            .copied
            .clone()
            .ok_or_else(|| conflict("exists", "There is such a machine already."));
    }
    mounted(state, host, &uid)?;
    fits(state, host, &ask)?;
    let over = match going_on(state, uuid, now) {
        Ok(over) => over,
        Err(said) => return Ok(said),
    };
    if let Some(at) = how.from.delivery.clone() {
        return delivered(state, host, (uuid, ask), &at, now);
    }
    // What it held when it began was held fast.
    let held = over.and_then(|_| state.held.remove(uuid));
    let mut from = match held {
        Some((disks, content, agent)) => Read {
            disks,
            content,
            agent,
        },
        None => match &how.from.package {
            None => read(state, host, &how.from, now)?,
            Some(package) => match unpacked(world, state, host, uuid, package)? {
                Unpacked::Said(said) => return Ok(said),
                Unpacked::There(content) => Read {
                    disks: package.disks(),
                    content,
                    agent: false,
                },
            },
        },
    };
    let disks: Vec<Disk> = ask.disks.iter().map(formatted).collect();
    if disks.len() < from.disks.len() || disks.iter().zip(&from.disks).any(|(d, f)| d.size < f.size)
    {
        return Err(conflict(
            "disks",
            "A copy has the same disks, or larger ones.",
        ));
    }
    let disks = locked(disks, &from.disks);
    if how.dependent {
        let beside = how.from.volume.as_ref() == Some(&uid);
        let Some(parent) = how.from.template.clone().filter(|_| beside) else {
            return Err(conflict(
                "parent",
                "Disks lie only on a version on the same volume.",
            ));
        };
        let mut said = json!({"stage": "done", "copied": 0, "left": 0, "rate": 0, "took_ms": 0});
        sealed(&mut from, how.seal, &mut said);
        let chain = Chain::on(&parent, from.content, disks.len(), seed(uuid), now);
        return write(state, host, (uuid, ask), (disks, chain), said, now);
    }
    let bytes: u64 = disks
        .iter()
        .zip(&from.content)
        .map(|(d, c)| takes(d, c))
        .sum();
    let Some((copied, took)) = over else {
        room(state, &uid, bytes)?;
        copying::begin(state, uuid, host, &uid, bytes, now);
        state
            .held
            .insert(uuid.to_owned(), (from.disks, from.content, from.agent));
        return match going_on(state, uuid, now) {
            Err(said) => Ok(said),
            Ok(_) => Ok(json!({"stage": "running", "copied": 0, "left": bytes, "rate": 0})),
        };
    };
    let mut said =
        json!({"stage": "done", "copied": copied, "left": 0, "rate": 0, "took_ms": took});
    sealed(&mut from, how.seal, &mut said);
    copying::end(state, uuid);
    let chain = Chain::with(&disks, from.content, seed(uuid), now);
    write(state, host, (uuid, ask), (disks, chain), said, now)
}

/// Its disks are those that were brought; they lie on the volume already.
fn delivered(
    state: &mut State,
    host: &str,
    (uuid, ask): (&str, Create),
    at: &At,
    now: i64,
) -> Result<Value, Response> {
    if at.volume != ask.volume {
        return Err(conflict("delivery", "It lies on another volume."));
    }
    let delivery = state.volumes.get(&at.volume);
    let delivery = delivery.and_then(|v| v.deliveries.get(&at.id));
    let Some(delivery) = delivery.cloned() else {
        return Err(gone("There is no such delivery on this volume."));
    };
    let disks: Vec<Disk> = ask.disks.iter().map(formatted).collect();
    let small = |(d, from): (&Disk, &crate::rooms::delivering::Arriving)| d.size < from.size;
    if disks.len() < delivery.disks.len() || disks.iter().zip(&delivery.disks).any(small) {
        let words = "A copy has the same disks, or larger ones.";
        return Err(conflict("disks", words));
    }
    let bytes = delivery.takes();
    let said = json!({"stage": "done", "copied": bytes, "left": 0, "rate": 0, "took_ms": 0});
    let content = delivery.disks.into_iter().map(|d| d.content).collect();
    let chain = Chain::with(&disks, content, seed(uuid), now);
    let said = write(state, host, (uuid, ask), (disks, chain), said, now)?;
    if let Some(volume) = state.volumes.get_mut(&at.volume) {
        volume.deliveries.remove(&at.id);
    }
    Ok(said)
}

/// What was encrypted stays so.
fn locked(disks: Vec<Disk>, like: &[Disk]) -> Vec<Disk> {
    let locks = like.iter().map(|d| d.lock).chain(std::iter::repeat(0));
    let both = disks.into_iter().zip(locks);
    both.map(|(disk, lock)| Disk { lock, ..disk }).collect()
}

/// The record, with its disks as layers.
fn write(
    state: &mut State,
    host: &str,
    (uuid, ask): (&str, Create),
    (disks, chain): (Vec<Disk>, Chain),
    mut said: Value,
    now: i64,
) -> Result<Value, Response> {
    let uid = ask.volume.clone();
    let (mut record, guest_key) = made(ask, disks, now)?;
    said["guest_key"] = guest_key.into();
    record.chain = Some(Box::new(chain));
    record.copied = Some(said.clone());
    if let Some(volume) = state.volumes.get_mut(&uid) {
        volume.records.insert(uuid.to_owned(), record);
    }
    state.about_to(uuid);
    state.did_what(host, &format!("copied to {uuid}"));
    Ok(said)
}

/// Ends a copy; what it had made already goes too, unless somebody started it.
pub(crate) async fn end(
    Extract(device): Extract<Device>,
    Path(uuid): Path<String>,
    headers: HeaderMap,
) -> Response {
    let mut on = String::new();
    device.world.unpacking.end(&uuid);
    let said = fenced(&device, &headers, &uuid, |state, _, _, _| {
        copying::end(state, &uuid);
        state.held.remove(&uuid);
        let fresh = |r: &Record| r.copied.is_some() && r.lease.generation == 0;
        for (uid, volume) in &mut state.volumes {
            if volume.records.get(&uuid).is_some_and(fresh) {
                volume.records.remove(&uuid);
                uid.clone_into(&mut on);
            }
        }
        Ok(json!({}))
    });
    answer(&device, &on, said)
}

#[derive(Deserialize)]
pub(crate) struct Make {
    name: String,
    from: From,
    #[serde(default)]
    seal: bool,
    /// Identities of its disks.
    #[serde(default)]
    disks: Vec<Uuid>,
}

pub(crate) async fn make(
    Extract(device): Extract<Device>,
    Path((uid, id)): Path<(String, String)>,
    headers: HeaderMap,
    Json(ask): Json<Make>,
) -> Response {
    let now = device.world.now();
    let object = format!("image:{uid}/{id}");
    let said = fenced(&device, &headers, &object, |state, host, _, _| {
        version(state, host, (&uid, &id), ask, now)
    });
    answer(&device, &uid, said)
}

fn version(
    state: &mut State,
    host: &str,
    (uid, id): (&str, &str),
    ask: Make,
    now: i64,
) -> Result<Value, Response> {
    if let Some(there) = state.volumes.get(uid).and_then(|v| v.templates.get(id)) {
        return Ok(there.made.clone());
    }
    mounted(state, host, uid)?;
    let over = match going_on(state, id, now) {
        Ok(over) => over,
        Err(said) => return Ok(said),
    };
    let Some((copied, took)) = over else {
        let from = read(state, host, &ask.from, now)?;
        let bytes = from
            .disks
            .iter()
            .zip(&from.content)
            .map(|(d, c)| takes(d, c))
            .sum();
        room(state, uid, bytes)?;
        copying::begin(state, id, host, uid, bytes, now);
        state
            .held
            .insert(id.to_owned(), (from.disks, from.content, from.agent));
        return Ok(json!({"stage": "running", "copied": 0, "left": bytes, "rate": 0}));
    };
    let Some((disks, content, agent)) = state.held.remove(id) else {
        copying::end(state, id);
        return Err(conflict("source", "What was copied is not known any more."));
    };
    let mut from = Read {
        disks,
        content,
        agent,
    };
    let mut said =
        json!({"stage": "done", "copied": copied, "left": 0, "rate": 0, "took_ms": took});
    sealed(&mut from, ask.seal, &mut said);
    let keyed = |(n, d): (usize, Disk)| Disk {
        key: ask.disks.get(n).copied().unwrap_or_else(Uuid::new_v4),
        ..d
    };
    let mut frozen = Frozen {
        name: ask.name,
        disks: from.disks.into_iter().enumerate().map(keyed).collect(),
        content: from.content,
        agent: from.agent,
        made: Value::Null,
    };
    said["takes"] = frozen.takes().into();
    frozen.made = said.clone();
    copying::end(state, id);
    state.called(id, &frozen.name);
    if let Some(volume) = state.volumes.get_mut(uid) {
        volume.templates.insert(id.to_owned(), frozen);
    }
    state.did_what(host, &format!("made version {id}"));
    Ok(said)
}

/// Removes a version that nothing lies on, or ends its making.
pub(crate) async fn remove(
    Extract(device): Extract<Device>,
    Path((uid, id)): Path<(String, String)>,
    headers: HeaderMap,
) -> Response {
    let object = format!("image:{uid}/{id}");
    let said = fenced(&device, &headers, &object, |state, host, _, _| {
        copying::end(state, &id);
        state.held.remove(&id);
        mounted(state, host, &uid)?;
        let Some(volume) = state.volumes.get_mut(&uid) else {
            return Ok(json!({}));
        };
        let lies = |r: &&Record| {
            r.chain
                .as_ref()
                .is_some_and(|c| c.parent() == Some(id.as_str()))
        };
        if let Some(user) = volume.records.values().find(lies) {
            return Err(conflict(
                "needed",
                format!("The disks of {} lie on it.", user.name),
            ));
        }
        if volume.templates.remove(&id).is_some() {
            state.did_what(host, &format!("removed version {id}"));
        }
        Ok(json!({}))
    });
    answer(&device, &uid, said)
}

#[derive(Deserialize)]
pub(crate) struct Whole {
    wanted: bool,
}

/// Copies what a machine has of a version into its own disks, while its guest writes.
pub(crate) async fn whole(
    Extract(device): Extract<Device>,
    Path(uuid): Path<String>,
    headers: HeaderMap,
    Json(ask): Json<Whole>,
) -> Response {
    if let Err(no) = owner_only(&device, &headers) {
        return no;
    }
    let now = device.world.now();
    let mut on = String::new();
    let said = fenced(&device, &headers, &uuid, |state, host, _, _| {
        if !ask.wanted {
            copying::end(state, &uuid);
            return Ok(json!({"stage": "failed", "why": "it was given up"}));
        }
        let mounts = state
            .hosts
            .get(host)
            .map(|h| h.mounted.clone())
            .unwrap_or_default();
        let mut all = mounts.into_iter();
        let home = all.find(|uid| {
            state
                .volumes
                .get(uid)
                .is_some_and(|v| v.records.contains_key(&uuid))
        });
        let Some(home) = home else {
            return Err(gone("No volume that this host sees has such a machine."));
        };
        let holder = &state.volumes[&home].records[&uuid].lease.holder;
        if holder.as_ref().is_some_and(|h| h != host) {
            return Err(conflict("elsewhere", "The machine is on at another host."));
        }
        home.clone_into(&mut on);
        become_whole(state, host, (&home, &uuid), now)
    });
    answer(&device, &on, said)
}

fn become_whole(
    state: &mut State,
    host: &str,
    (home, uuid): (&str, &str),
    now: i64,
) -> Result<Value, Response> {
    let over = match going_on(state, uuid, now) {
        Ok(over) => over,
        Err(said) => return Ok(said),
    };
    going::follow(state, host, uuid, now, 0);
    let record = state.volumes.get(home).and_then(|v| v.records.get(uuid));
    let lacks = record
        .and_then(|r| r.chain.as_ref())
        .map_or(0, |c| c.lacks());
    if lacks == 0 {
        let kept = record.and_then(|r| r.whole.clone());
        copying::end(state, uuid);
        let none = json!({"stage": "done", "copied": 0, "left": 0, "rate": 0, "took_ms": 0});
        return Ok(kept.unwrap_or(none));
    }
    let Some((copied, took)) = over else {
        room(state, home, lacks)?;
        copying::begin(state, uuid, host, home, lacks, now);
        return Ok(json!({"stage": "running", "copied": 0, "left": lacks, "rate": 0}));
    };
    copying::end(state, uuid);
    let said = json!({"stage": "done", "copied": copied, "left": 0, "rate": 0, "took_ms": took});
    let volume = state.volumes.get_mut(home);
    if let Some(record) = volume.and_then(|v| v.records.get_mut(uuid)) {
        if let Some(chain) = record.chain.as_mut() {
            chain.become_whole();
        }
        record.whole = Some(said.clone());
    }
    state.about_to(uuid);
    state.did_what(host, &format!("made {uuid} whole"));
    Ok(said)
}
