//! The calls: a delivery begun, its pieces, what is there of it, its end, and its disks put in place.

use super::{Arriving, Delivery, sweep};
use crate::{
    agent::{change::fenced, owner_only, refused},
    fault::Device,
    rooms::{
        packages::grains::LENGTH,
        records::calls::home,
        snapshots::{
            blocks::{GRAIN, grains},
            chain::Chain,
            seed,
            told::pieces,
        },
        storage::volume::Disk,
        templates::calls::{answer, conflict, mounted, room},
    },
    world::State,
};
use axum::{
    Json,
    body::Bytes,
    extract::{Path, Query, State as Extract},
    http::{HeaderMap, StatusCode},
    response::{IntoResponse, Response},
};
use base64::{Engine, prelude::BASE64_STANDARD};
use roaring::RoaringBitmap;
use serde::Deserialize;
use serde_json::{Value, json};
use sha2::{Digest, Sha256};
use std::collections::BTreeMap;
use uuid::Uuid;

/// The most bytes in one piece.
const LONGEST: u64 = 4 << 20;

pub(super) fn gone() -> Response {
    let words = "There is no such delivery on this volume.";
    refused(StatusCode::NOT_FOUND, "delivery", words)
}

#[derive(Deserialize)]
pub(crate) struct Begin {
    disks: Vec<Sized>,
    bytes: u64,
}

#[derive(Deserialize)]
struct Sized {
    key: Uuid,
    size: u64,
}

/// Room is held for it from now on; asked again, it is as it was.
pub(crate) async fn begin(
    Extract(device): Extract<Device>,
    Path((uid, id)): Path<(String, String)>,
    headers: HeaderMap,
    Json(ask): Json<Begin>,
) -> Response {
    let object = format!("image:{uid}/{id}");
    let now = device.world.now();
    let said = fenced(&device, &headers, &object, |state, host, _, _| {
        mounted(state, host, &uid)?;
        if let Some(volume) = state.volumes.get_mut(&uid) {
            sweep(&mut volume.deliveries, now);
            if volume.deliveries.contains_key(&id) {
                return Ok(json!({}));
            }
        }
        room(state, &uid, ask.bytes)?;
        let disk = |d: &Sized| Arriving {
            key: d.key,
            size: d.size,
            ..Arriving::default()
        };
        let fresh = Delivery {
            disks: ask.disks.iter().map(disk).collect(),
            bytes: ask.bytes,
            touched: now,
        };
        if let Some(volume) = state.volumes.get_mut(&uid) {
            volume.deliveries.insert(id.clone(), fresh);
        }
        state.did_what(host, "takes a delivery");
        Ok(json!({}))
    });
    answer(&device, &uid, said)
}

#[derive(Deserialize)]
pub(crate) struct Piece {
    from: u64,
}

/// Whether the digest (RFC 9530) that came with it is that of the bytes.
fn is_whole(headers: &HeaderMap, bytes: &[u8]) -> bool {
    let said = headers.get("content-digest").and_then(|d| d.to_str().ok());
    let digest = BASE64_STANDARD.encode(Sha256::digest(bytes));
    said == Some(format!("sha-256=:{digest}:").as_str())
}

/// As they were before they were packed for the line (RFC 8878).
fn plain(headers: &HeaderMap, bytes: Bytes) -> Option<Bytes> {
    let coding = headers.get("content-encoding");
    match coding.map(|c| c.to_str()) {
        None => Some(bytes),
        Some(Ok("zstd")) => {
            let most = usize::try_from(LONGEST).ok()?;
            zstd::bulk::decompress(&bytes, most).ok().map(Bytes::from)
        }
        Some(_) => None,
    }
}

pub(crate) async fn bring(
    Extract(device): Extract<Device>,
    Path((uid, id, key)): Path<(String, String, Uuid)>,
    Query(piece): Query<Piece>,
    headers: HeaderMap,
    bytes: Bytes,
) -> Response {
    if let Err(no) = owner_only(&device, &headers) {
        return no;
    }
    let bad = |words: &str| refused(StatusCode::BAD_REQUEST, "piece", words);
    if !is_whole(&headers, &bytes) {
        return bad("The bytes are not those of which the digest is.");
    }
    let Some(bytes) = plain(&headers, bytes) else {
        return bad("The bytes are not packed as it is said, or are more than 4 MiB.");
    };
    if bytes.len() as u64 > LONGEST || !piece.from.is_multiple_of(GRAIN) {
        return bad("A piece begins with a block, and has 4 MiB at most.");
    }
    let first = u32::try_from(piece.from / GRAIN).unwrap_or(u32::MAX);
    let (world, length) = (device.world.clone(), bytes.len() as u64);
    let read = tokio::task::spawn_blocking(move || {
        let mut found: BTreeMap<u64, RoaringBitmap> = BTreeMap::new();
        for (block, content) in (first..).zip(bytes.chunks(LENGTH)) {
            if let Some(number) = world.grains.number(block, content)? {
                found.entry(number).or_default().insert(block);
            }
        }
        Ok::<_, std::io::Error>(found)
    });
    let Ok(Ok(found)) = read.await else {
        let words = "The volume did not take it.";
        return refused(StatusCode::INTERNAL_SERVER_ERROR, "disk", words);
    };
    let mut state = device.world.lock();
    if let Err(no) = mounted(&state, &device.name, &uid) {
        return no;
    }
    let now = device.world.now();
    let volume = state.volumes.get_mut(&uid);
    if let Some(v) = volume.as_ref().filter(|v| v.stuffed) {
        let words = format!("{} takes nothing more: what is beneath it is full.", v.name);
        return refused(StatusCode::INSUFFICIENT_STORAGE, "full", words);
    }
    let Some(delivery) = volume.and_then(|v| v.deliveries.get_mut(&id)) else {
        return gone();
    };
    delivery.touched = now;
    let Some(disk) = delivery.disks.iter_mut().find(|d| d.key == key) else {
        return gone();
    };
    if piece
        .from
        .checked_add(length)
        .is_none_or(|end| end > disk.size)
    {
        return bad("The disk ends before that.");
    }
    disk.brought(first, grains(length), found);
    Json(json!({})).into_response()
}

/// What was brought so far; it is written down before it is told.
pub(crate) async fn show(
    Extract(device): Extract<Device>,
    Path((uid, id)): Path<(String, String)>,
    headers: HeaderMap,
) -> Response {
    if let Err(no) = owner_only(&device, &headers) {
        return no;
    }
    let said = {
        let mut state = device.world.lock();
        if let Err(no) = mounted(&state, &device.name, &uid) {
            return no;
        }
        let volume = state.volumes.get_mut(&uid);
        let Some(delivery) = volume.and_then(|v| v.deliveries.get(&id)) else {
            return gone();
        };
        let disk = |d: &Arriving| {
            let confirmed = d.confirmed.text().unwrap_or_default();
            json!({"key": d.key, "confirmed": pieces(&confirmed)})
        };
        let disks: Vec<Value> = delivery.disks.iter().map(disk).collect();
        json!({"disks": disks})
    };
    device.world.volume_changed(&uid);
    Json(said).into_response()
}

/// Nobody wants it any more; nothing of it is left.
pub(crate) async fn end(
    Extract(device): Extract<Device>,
    Path((uid, id)): Path<(String, String)>,
    headers: HeaderMap,
) -> Response {
    let object = format!("image:{uid}/{id}");
    let said = fenced(&device, &headers, &object, |state, host, _, _| {
        mounted(state, host, &uid)?;
        if let Some(volume) = state.volumes.get_mut(&uid) {
            volume.deliveries.remove(&id);
        }
        Ok(json!({}))
    });
    answer(&device, &uid, said)
}

#[derive(Deserialize)]
pub(crate) struct InPlace {
    volume: String,
    delivery: String,
    disks: Vec<Onto>,
}

#[derive(Deserialize)]
struct Onto {
    from: Uuid,
    onto: Uuid,
    #[serde(default)]
    new: bool,
    size: u64,
    #[serde(default)]
    thick: bool,
}

/// Disks of a machine hold what was brought, all at once.
pub(crate) async fn place(
    Extract(device): Extract<Device>,
    Path(uuid): Path<String>,
    headers: HeaderMap,
    Json(ask): Json<InPlace>,
) -> Response {
    let now = device.world.now();
    let mut on = String::new();
    let said = fenced(&device, &headers, &uuid, |state, host, order, _| {
        home(state, host, &uuid)?.clone_into(&mut on);
        placed(state, host, (&on, &uuid), (order, &ask), now)
    });
    answer(&device, &on, said)
}

fn placed(
    state: &mut State,
    host: &str,
    (home, uuid): (&str, &str),
    (order, ask): (&str, &InPlace),
    now: i64,
) -> Result<Value, Response> {
    let record = &state.volumes[home].records[uuid];
    if let Some((_, said)) = record.filled.as_ref().filter(|(o, _)| o == order) {
        return Ok(said.clone());
    }
    let over = ask.disks.iter().any(|d| !d.new);
    let holder = record.lease.holder.as_deref();
    if holder.is_some_and(|h| over || h != host) {
        return Err(conflict("on", "The machine is on."));
    }
    mounted(state, host, &ask.volume)?;
    let delivery = state.volumes.get(&ask.volume);
    let delivery = delivery.and_then(|v| v.deliveries.get(&ask.delivery));
    let delivery = delivery.cloned().ok_or_else(gone)?;
    for disk in &ask.disks {
        let fits = match record.disks.iter().find(|d| d.key == disk.onto) {
            Some(there) => !disk.new && delivery.fits(&disk.from, there.size),
            None => disk.new && delivery.fits(&disk.from, disk.size),
        };
        if !fits {
            let words = "It has such a disk already, or none, or it was not brought.";
            return Err(conflict("disk", words));
        }
    }
    let said = json!({"bytes": delivery.takes()});
    let record = state.volumes.get_mut(home);
    let Some(record) = record.and_then(|v| v.records.get_mut(uuid)) else {
        return Err(gone());
    };
    let alone = || Box::new(Chain::of(&record.disks, seed(uuid), now));
    let mut chain = record.chain.take().unwrap_or_else(alone);
    for disk in &ask.disks {
        let content = delivery.disk(&disk.from).map(|d| d.content.clone());
        let content = content.unwrap_or_default();
        match record.disks.iter().position(|d| d.key == disk.onto) {
            Some(place) => chain.lay_over(place, content, &record.disks[place]),
            None => {
                record.disks.push(Disk {
                    key: disk.onto,
                    size: disk.size,
                    thick: disk.thick,
                    written: 0,
                    lock: 0,
                });
                chain.put_in(content);
            }
        }
    }
    record.chain = Some(chain);
    record.filled = Some((order.to_owned(), said.clone()));
    if let Some(volume) = state.volumes.get_mut(&ask.volume) {
        volume.deliveries.remove(&ask.delivery);
    }
    state.about_to(uuid);
    state.did_what(host, &format!("put a delivery in place at {uuid}"));
    Ok(said)
}
