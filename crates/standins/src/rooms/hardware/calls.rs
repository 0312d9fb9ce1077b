//! The calls: a disk added, detached, attached; the cards written; an unattached disk marked or removed.

use super::unattached::Spare;
use crate::{
    agent::{
        change::{Outcome, keyed},
        owner_only, refused, say,
    },
    fault::Device,
    rooms::{
        machines::records::cards_fit,
        networks::network::Nic,
        records::calls::home,
        snapshots::{blocks::Written, chain::Chain, going, seed},
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

/// A change of one machine, after its guest was followed until now: answers the machine, and what no machine has.
fn change(
    device: &Device,
    headers: &HeaderMap,
    uuid: &str,
    act: impl FnOnce(&mut State, &str, &str, i64) -> Result<(), Response>,
) -> Response {
    if let Err(no) = owner_only(device, headers) {
        return no;
    }
    let host = device.name.clone();
    keyed(device, headers, uuid, |state, now| {
        let home = home(state, &host, uuid)?;
        // Elsewhere it may be on; only its own host can give it anything then.
        let holder = state.volumes[&home].records[uuid].lease.holder.clone();
        if holder.is_some_and(|h| h != host) {
            return Err(conflict("elsewhere", "The machine is on at another host."));
        }
        if busy(state, uuid) {
            return Err(conflict("busy", "Its disks are being copied or folded."));
        }
        going::follow(state, &host, uuid, now, 0);
        act(state, &host, &home, now)?;
        Ok(told(state, &host, &home, uuid, now))
    })
}

fn told(state: &State, host: &str, home: &str, uuid: &str, now: i64) -> serde_json::Value {
    let host = &state.hosts[host];
    json!({"machine": say::machine_now(state, host, uuid, now), "unattached": state.volumes[home].unattached.told()})
}

fn busy(state: &State, uuid: &str) -> bool {
    let copies = state
        .copies
        .iter()
        .any(|((_, of), c)| of == uuid && c.runs());
    let folds = state
        .going
        .iter()
        .any(|((_, of), g)| of == uuid && g.runs());
    copies || folds
}

fn parts<'a>(
    state: &'a mut State,
    home: &str,
    uuid: &str,
) -> Result<(&'a mut Volume, Box<Record>), Response> {
    let volume = state.volumes.get_mut(home);
    let volume = volume.ok_or_else(|| conflict("volume", "The volume is gone."))?;
    let record = volume.records.get(uuid).cloned();
    let record = record.ok_or_else(|| conflict("machine", "The machine is gone."))?;
    Ok((volume, Box::new(record)))
}

#[derive(Deserialize)]
pub(crate) struct Add {
    size: u64,
    #[serde(default)]
    thick: bool,
}

pub(crate) async fn add(
    Extract(device): Extract<Device>,
    Path((uuid, key)): Path<(String, Uuid)>,
    headers: HeaderMap,
    Json(ask): Json<Add>,
) -> Response {
    change(&device, &headers, &uuid, |state, _, home, _| {
        let (volume, mut record) = parts(state, home, &uuid)?;
        let needs = if ask.thick { ask.size } else { 0 };
        if needs > volume.free() {
            let words = format!("{} bytes are free, {needs} are needed.", volume.free());
            return Err(refused(StatusCode::INSUFFICIENT_STORAGE, "full", words));
        }
        if record.disks.iter().any(|d| d.key == key) || volume.unattached.disks.contains_key(&key) {
            return Err(conflict("exists", "There is such a disk already."));
        }
        let disk = Disk {
            key,
            size: ask.size,
            thick: ask.thick,
            written: 0,
            lock: 0,
        };
        if let Some(chain) = &mut record.chain {
            chain.put_in(Written::default());
        }
        record.disks.push(disk);
        volume.records.insert(uuid.clone(), *record);
        called(state, key, &uuid, home);
        Ok(())
    })
}

#[derive(Deserialize)]
pub(crate) struct Detach {
    #[serde(default)]
    delete: bool,
}

pub(crate) async fn detach(
    Extract(device): Extract<Device>,
    Path((uuid, key)): Path<(String, Uuid)>,
    headers: HeaderMap,
    Json(ask): Json<Detach>,
) -> Response {
    change(&device, &headers, &uuid, |state, _, home, now| {
        called(state, key, &uuid, home);
        let (volume, mut record) = parts(state, home, &uuid)?;
        let on = record.lease.holder.is_some();
        let Some(place) = record.disks.iter().position(|d| d.key == key) else {
            return Err(refused(
                StatusCode::NOT_FOUND,
                "disk",
                "It has no such disk.",
            ));
        };
        if record.disks.len() == 1 {
            return Err(conflict("last", "A machine keeps one disk at least."));
        }
        if on && place == 0 {
            return Err(conflict("running", "It runs from this disk."));
        }
        let chain = record.chain.as_deref();
        let held = chain.is_some_and(|c| c.snapshots.values().any(|s| c.disks_of(s.layer) > place));
        if held {
            return Err(conflict("snapshots", "A snapshot of it holds this disk."));
        }
        let content = match &mut record.chain {
            Some(chain) => chain.take_out(place),
            None => {
                let chain = Chain::of(&record.disks, seed(&uuid), now);
                let mut all = chain.seen_from(chain.current);
                all.swap_remove(place)
            }
        };
        let disk = record.disks.remove(place);
        volume.unattached.put(Spare {
            disk,
            content,
            had: record.name.clone(),
            since: now,
            deleted: ask.delete.then_some(now),
        });
        volume.records.insert(uuid.clone(), *record);
        Ok(())
    })
}

pub(crate) async fn attach(
    Extract(device): Extract<Device>,
    Path((uuid, key)): Path<(String, Uuid)>,
    headers: HeaderMap,
) -> Response {
    change(&device, &headers, &uuid, |state, _, home, now| {
        let (volume, mut record) = parts(state, home, &uuid)?;
        let there = volume.unattached.disks.get(&key);
        if there.is_none_or(|d| d.deleted.is_some()) {
            let words = "No such unattached disk lies beside the machine.";
            return Err(refused(StatusCode::NOT_FOUND, "disk", words));
        }
        let Some(spare) = volume.unattached.take(key) else {
            return Ok(());
        };
        let alone = || Box::new(Chain::of(&record.disks, seed(&uuid), now));
        let mut chain = record.chain.take().unwrap_or_else(alone);
        chain.put_in(spare.content);
        record.chain = Some(chain);
        record.disks.push(spare.disk);
        volume.records.insert(uuid.clone(), *record);
        called(state, key, &uuid, home);
        Ok(())
    })
}

/// What people call a disk, for whoever reads what was done.
fn called(state: &mut State, key: Uuid, uuid: &str, home: &str) {
    let record = state.volumes.get(home).and_then(|v| v.records.get(uuid));
    if let Some(name) = record.map(|r| format!("a disk of {}", r.name)) {
        state.called(&key.to_string(), &name);
    }
}

#[derive(Deserialize)]
pub(crate) struct Cards {
    cards: Vec<Card>,
}

#[derive(Deserialize)]
struct Card {
    mac: String,
    #[serde(default)]
    network: Option<String>,
    /// What its guest has by what its disks hold, where somebody knows it.
    #[serde(default)]
    addresses: Option<Vec<std::net::IpAddr>>,
}

/// All cards of a machine from now on; one that goes to another network leaves its addresses behind, unless it is said which it has.
pub(crate) async fn cards(
    Extract(device): Extract<Device>,
    Path(uuid): Path<String>,
    headers: HeaderMap,
    Json(ask): Json<Cards>,
) -> Response {
    change(&device, &headers, &uuid, |state, host, home, _| {
        let (_, record) = parts(state, home, &uuid)?;
        let had = |card: &Card| {
            let mut all = record.nics.iter();
            all.find(|n| n.mac == card.mac && n.network == card.network)
        };
        let nic = |card: &Card| Nic {
            mac: card.mac.clone(),
            network: card.network.clone(),
            addresses: match &card.addresses {
                Some(said) => said.iter().map(ToString::to_string).collect(),
                None => had(card).map_or_else(Vec::new, |n| n.addresses.clone()),
            },
        };
        let nics: Vec<Nic> = ask.cards.iter().map(nic).collect();
        let bare = |n: &Nic| Nic {
            addresses: vec![],
            ..n.clone()
        };
        cards_fit(state, host, &nics.iter().map(bare).collect::<Vec<_>>())?;
        let volume = state.volumes.get_mut(home);
        if let Some(record) = volume.and_then(|v| v.records.get_mut(&uuid)) {
            record.nics = nics;
        }
        Ok(())
    })
}

/// A change of a disk that no machine has.
fn of_spare(
    device: &Device,
    headers: &HeaderMap,
    (uid, key): (&str, Uuid),
    act: impl FnOnce(&mut Volume, i64) -> Result<(), Response>,
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
            let sees = mounted && state.reaches(&host, uid);
            let Some(volume) = state.volumes.get_mut(uid).filter(|_| sees) else {
                return Err(conflict("volume", "The volume is not mounted."));
            };
            let Some(had) = volume.unattached.disks.get(&key).map(|d| d.had.clone()) else {
                let words = "No such disk is unattached there.";
                return Err(refused(StatusCode::NOT_FOUND, "disk", words));
            };
            act(volume, now)?;
            let said = json!({"unattached": volume.unattached.told()});
            state.called(&key.to_string(), &format!("a disk of {had}"));
            Ok(said)
        },
    )
}

#[derive(Deserialize)]
pub(crate) struct Mark {
    deleted: bool,
}

pub(crate) async fn mark(
    Extract(device): Extract<Device>,
    Path((uid, key)): Path<(String, Uuid)>,
    headers: HeaderMap,
    Json(ask): Json<Mark>,
) -> Response {
    of_spare(&device, &headers, (&uid, key), |volume, now| {
        if let Some(mut spare) = volume.unattached.take(key) {
            spare.deleted = ask.deleted.then_some(now);
            volume.unattached.put(spare);
        }
        Ok(())
    })
}

/// Removes a disk for good; it must have been deleted before.
pub(crate) async fn purge(
    Extract(device): Extract<Device>,
    Path((uid, key)): Path<(String, Uuid)>,
    headers: HeaderMap,
) -> Response {
    of_spare(&device, &headers, (&uid, key), |volume, _| {
        let kept = volume.unattached.disks.get(&key);
        if kept.is_some_and(|d| d.deleted.is_none()) {
            return Err(conflict("kept", "The disk is not deleted."));
        }
        volume.unattached.take(key);
        Ok(())
    })
}
