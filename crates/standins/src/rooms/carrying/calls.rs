//! The calls of movers.

use super::{Mark, changed};
use crate::{
    agent::{change::fenced, owner_only, refused},
    fault::Device,
    rooms::{
        records::calls::home,
        snapshots::{
            blocks::{Blocks, GRAIN, Written, grains},
            going,
            told::pieces,
        },
        storage::volume::Record,
    },
};
use axum::{
    Json,
    extract::{Path, Query, State as Extract},
    http::{HeaderMap, StatusCode},
    response::{IntoResponse, Response},
};
use serde::Deserialize;
use serde_json::{Value, json};
use sha2::{Digest, Sha256};
use std::collections::BTreeMap;
use uuid::Uuid;

/// The most bytes in one answer.
const LONGEST: u64 = 4 << 20;

fn gone(words: &str) -> Response {
    refused(StatusCode::NOT_FOUND, "mark", words)
}

/// What the disks held when a snapshot was taken, by their keys, with their sizes.
fn at(record: &Record, snapshot: &str) -> Result<BTreeMap<Uuid, (u64, Written)>, Response> {
    let chain = record.chain.as_ref();
    let layer = chain.and_then(|c| Some((c, c.snapshots.get(snapshot)?.layer)));
    let (chain, layer) = layer.ok_or_else(|| gone("The snapshot is gone."))?;
    let seen = chain.seen_from(layer);
    let held = chain.disks_of(layer);
    let disks = record.disks.iter().zip(seen).take(held);
    Ok(disks.map(|(d, w)| (d.key, (d.size, w))).collect())
}

/// Changes the marks of a machine; `act` says what was done, if anything was.
fn change(
    device: &Device,
    headers: &HeaderMap,
    uuid: &str,
    act: impl FnOnce(&mut Record) -> Result<Option<&'static str>, Response>,
) -> Response {
    let said = fenced(device, headers, uuid, |state, host, _, _| {
        let home = home(state, host, uuid)?;
        let record = state
            .volumes
            .get_mut(&home)
            .and_then(|v| v.records.get_mut(uuid));
        let done = act(record.ok_or_else(|| gone("There is no such machine."))?)?;
        if let Some(words) = done {
            state.did_what(host, &format!("{words} {uuid}"));
        }
        Ok(home)
    });
    match said {
        Ok(home) => {
            device.world.volume_changed(&home);
            Json(json!({})).into_response()
        }
        Err(no) => no,
    }
}

/// From now on it can be told what changed since this snapshot, also once it is gone.
pub(crate) async fn mark(
    Extract(device): Extract<Device>,
    Path((uuid, id)): Path<(String, String)>,
    headers: HeaderMap,
) -> Response {
    change(&device, &headers, &uuid, |record| {
        let disks = at(record, &id)?;
        let Some(chain) = record.chain.as_mut() else {
            return Ok(None);
        };
        if chain.marks.contains_key(&id) {
            return Ok(None);
        }
        let set = chain.snapshots.get(&id).map_or(0, |s| s.taken);
        let mark = Mark {
            set,
            disks: disks.into_iter().map(|(key, (_, w))| (key, w)).collect(),
        };
        chain.mark(&id, mark);
        Ok(Some("marked"))
    })
}

/// Nobody asks any more what changed since then.
pub(crate) async fn release(
    Extract(device): Extract<Device>,
    Path((uuid, id)): Path<(String, String)>,
    headers: HeaderMap,
) -> Response {
    change(&device, &headers, &uuid, |record| {
        let chain = record.chain.as_mut();
        let gone = chain.is_some_and(|c| c.marks.remove(&id).is_some());
        Ok(gone.then_some("released a mark of"))
    })
}

/// Looks at a snapshot of a machine, as its guest has written by now.
fn look<T>(
    device: &Device,
    headers: &HeaderMap,
    uuid: &str,
    say: impl FnOnce(&Record) -> Result<T, Response>,
) -> Result<T, Response> {
    owner_only(device, headers)?;
    let now = device.world.now();
    let mut state = device.world.lock();
    going::follow(&mut state, &device.name, uuid, now, 0);
    let home = home(&state, &device.name, uuid)?;
    let record = state.volumes.get(&home).and_then(|v| v.records.get(uuid));
    say(record.ok_or_else(|| gone("There is no such machine."))?)
}

#[derive(Deserialize)]
pub(crate) struct Since {
    #[serde(default)]
    since: Option<String>,
}

/// Which blocks hold something, and which are otherwise than at an earlier mark.
pub(crate) async fn blocks(
    Extract(device): Extract<Device>,
    Path((uuid, id)): Path<(String, String)>,
    Query(ask): Query<Since>,
    headers: HeaderMap,
) -> Response {
    let said = look(&device, &headers, &uuid, |record| {
        let then = ask
            .since
            .as_ref()
            .and_then(|s| record.chain.as_ref()?.marks.get(s));
        let said = |(key, (size, now)): (Uuid, (u64, Written))| -> std::io::Result<Value> {
            let held = Blocks(now.all()).text()?;
            let before = then.map(|t| t.disks.get(&key).cloned().unwrap_or_default());
            let changed = before
                .map(|b| Blocks(changed(&b, &now)).text())
                .transpose()?;
            Ok(
                json!({"key": key, "size": size, "held": pieces(&held), "changed": changed.as_deref().map(pieces)}),
            )
        };
        let disks: Result<Vec<Value>, _> = at(record, &id)?.into_iter().map(said).collect();
        let disks = disks.map_err(|_| StatusCode::INTERNAL_SERVER_ERROR.into_response())?;
        Ok(json!({"grain": GRAIN, "disks": disks}))
    });
    match said {
        Ok(said) => Json(said).into_response(),
        Err(no) => no,
    }
}

#[derive(Deserialize)]
pub(crate) struct Extents {
    disk: Uuid,
    from: u64,
    /// How many extents of 4 MiB.
    count: u64,
}

/// The most extents in one answer.
const EXTENTS: u64 = 64;

/// The SHA-256 of each of some extents, of 4 MiB but for the last of a disk, as a snapshot has them; nothing of those that hold
/// nothing.
pub(crate) async fn digests(
    Extract(device): Extract<Device>,
    Path((uuid, id)): Path<(String, String)>,
    Query(ask): Query<Extents>,
    headers: HeaderMap,
) -> Response {
    let found = look(&device, &headers, &uuid, |record| {
        let none = || gone("The snapshot has no such disk.");
        at(record, &id)?.remove(&ask.disk).ok_or_else(none)
    });
    let (size, content) = match found {
        Ok(found) => found,
        Err(no) => return no,
    };
    if !ask.from.is_multiple_of(LONGEST) || ask.count > EXTENTS {
        let words = "Extents begin with 4 MiB, and up to 64 are told at once.";
        return refused(StatusCode::BAD_REQUEST, "extent", words);
    }
    let world = device.world.clone();
    let read = tokio::task::spawn_blocking(move || {
        let mut all = Vec::new();
        for n in 0..ask.count {
            let from = ask.from.saturating_add(n * LONGEST);
            if from >= size {
                break;
            }
            let length = LONGEST.min(size - from);
            let first = u32::try_from(from / GRAIN).unwrap_or(u32::MAX);
            let blocks = content.within(first..first.saturating_add(grains(length)));
            all.push(match blocks.is_empty() {
                true => String::new(),
                false => {
                    let bytes = world.grains.extent(&blocks, first, length)?;
                    hex(&Sha256::digest(&bytes))
                }
            });
        }
        Ok::<_, std::io::Error>(all)
    });
    match read.await {
        Ok(Ok(all)) => Json(json!({"digests": all})).into_response(),
        Ok(Err(_)) | Err(_) => StatusCode::INTERNAL_SERVER_ERROR.into_response(),
    }
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|b| format!("{b:02x}")).collect()
}

#[derive(Deserialize)]
pub(crate) struct Extent {
    disk: Uuid,
    from: u64,
    length: u64,
}

/// Bytes of a disk as a snapshot has them.
pub(crate) async fn bytes(
    Extract(device): Extract<Device>,
    Path((uuid, id)): Path<(String, String)>,
    Query(ask): Query<Extent>,
    headers: HeaderMap,
) -> Response {
    let first = u32::try_from(ask.from / GRAIN).unwrap_or(u32::MAX);
    let wanted = first..first.saturating_add(grains(ask.length.min(LONGEST)));
    let found = look(&device, &headers, &uuid, |record| {
        let size = record
            .disks
            .iter()
            .find(|d| d.key == ask.disk)
            .map(|d| d.size);
        let none = || gone("The snapshot has no such disk.");
        let size = size.ok_or_else(none)?;
        // What a mark keeps is what the snapshot has, and need not be made out of its layers again.
        let chain = record
            .chain
            .as_ref()
            .filter(|c| c.snapshots.contains_key(&id));
        let kept = chain.and_then(|c| c.marks.get(&id)?.disks.get(&ask.disk));
        match kept {
            Some(content) => Ok((size, content.within(wanted))),
            None => {
                let (_, content) = at(record, &id)?.remove(&ask.disk).ok_or_else(none)?;
                Ok((size, content.within(wanted)))
            }
        }
    });
    let (size, blocks) = match found {
        Ok(found) => found,
        Err(no) => return no,
    };
    let beyond = ask
        .from
        .checked_add(ask.length)
        .is_none_or(|end| end > size);
    if beyond || ask.length > LONGEST || !ask.from.is_multiple_of(GRAIN) {
        let words = "An extent begins with a block, ends within the disk, and has 4 MiB at most.";
        return refused(StatusCode::BAD_REQUEST, "extent", words);
    }
    let world = device.world.clone();
    let read = tokio::task::spawn_blocking(move || world.grains.extent(&blocks, first, ask.length));
    match read.await {
        Ok(Ok(bytes)) => ([("content-type", "application/octet-stream")], bytes).into_response(),
        Ok(Err(_)) | Err(_) => StatusCode::INTERNAL_SERVER_ERROR.into_response(),
    }
}
