//! Images on volumes: room, bytes in pieces, checksum, removal.

use crate::agent::{
    change::{by_owner, fenced},
    owner_only, refused,
};
use crate::{
    fault::Device,
    rooms::images::files::Refused,
    rooms::storage::volume::{Image, Volume},
    world::State,
};
use axum::{
    Json,
    body::Bytes,
    extract::{Path, Query, State as Extract},
    http::{HeaderMap, StatusCode},
    response::{IntoResponse, Response},
};
use serde::Deserialize;
use serde_json::{Value, json};

type At = Path<(String, String)>;

fn unknown() -> Response {
    refused(
        StatusCode::NOT_FOUND,
        "image",
        "There is no such image on this volume.",
    )
}

fn mounted<'a>(state: &'a mut State, host: &str, uid: &str) -> Result<&'a mut Volume, Response> {
    let sees = state.reaches(host, uid)
        && state
            .hosts
            .get(host)
            .is_some_and(|h| h.mounted.contains(uid));
    let volume = state.volumes.get_mut(uid).filter(|_| sees);
    volume.ok_or_else(|| {
        let words = format!("The volume {uid} is not mounted, or no path to it works.");
        refused(StatusCode::CONFLICT, "path", words)
    })
}

fn told(device: &Device, uid: &str, id: &str, image: &Image) -> Value {
    json!({"name": image.name, "size": image.size, "sha256": image.sha256,
        "received": device.world.images.received(uid, id), "summed": device.world.images.summed(uid, id),
        "unread": device.world.images.broken(uid, id)})
}

#[derive(Deserialize)]
pub(crate) struct New {
    name: String,
    size: u64,
}

pub(crate) async fn create(
    Extract(device): Extract<Device>,
    Path((uid, id)): At,
    headers: HeaderMap,
    Json(ask): Json<New>,
) -> Response {
    by_owner(
        &device,
        &headers,
        &format!("image:{uid}/{id}"),
        |state, host| {
            let volume = mounted(state, host, &uid)?;
            let there = volume.images.contains_key(&id);
            if !there && ask.size > volume.free() {
                let words = format!("{} has {} bytes free.", volume.name, volume.free());
                return Err(refused(StatusCode::INSUFFICIENT_STORAGE, "full", words));
            }
            let image = volume.images.entry(id.clone()).or_insert(Image {
                name: ask.name,
                size: ask.size,
                sha256: None,
            });
            Ok(told(&device, &uid, &id, image))
        },
    )
}

/// The image as the volume has it, or why not.
fn look(device: &Device, headers: &HeaderMap, uid: &str, id: &str) -> Result<Image, Response> {
    owner_only(device, headers)?;
    let mut state = device.world.lock();
    let volume = mounted(&mut state, &device.name, uid)?;
    volume.images.get(id).cloned().ok_or_else(unknown)
}

pub(crate) async fn show(
    Extract(device): Extract<Device>,
    Path((uid, id)): At,
    headers: HeaderMap,
) -> Response {
    match look(&device, &headers, &uid, &id) {
        Ok(image) => Json(told(&device, &uid, &id, &image)).into_response(),
        Err(no) => no,
    }
}

#[derive(Deserialize)]
pub(crate) struct Piece {
    from: u64,
    #[serde(default)]
    length: usize,
}

pub(crate) async fn append(
    Extract(device): Extract<Device>,
    Path((uid, id)): At,
    Query(piece): Query<Piece>,
    headers: HeaderMap,
    bytes: Bytes,
) -> Response {
    let image = match look(&device, &headers, &uid, &id) {
        Ok(image) => image,
        Err(no) => return no,
    };
    if image.sha256.is_some() {
        return refused(
            StatusCode::CONFLICT,
            "sealed",
            "The image is whole already.",
        );
    }
    let world = device.world.clone();
    let done = tokio::task::spawn_blocking(move || {
        world
            .images
            .append((&uid, &id), piece.from, &bytes, image.size)
    });
    match done.await {
        Ok(Ok(received)) => Json(json!({"received": received})).into_response(),
        Ok(Err(Refused::Elsewhere(received))) => {
            let words = format!("{received} bytes are there; go on behind them.");
            refused(StatusCode::CONFLICT, "offset", words)
        }
        Ok(Err(Refused::TooMany)) => refused(
            StatusCode::CONFLICT,
            "size",
            "That is more than the file was said to have.",
        ),
        Ok(Err(Refused::Io(error))) => refused(
            StatusCode::INTERNAL_SERVER_ERROR,
            "disk",
            format!("The volume did not take it: {error}."),
        ),
        Err(_) => StatusCode::INTERNAL_SERVER_ERROR.into_response(),
    }
}

/// The most that is read at once.
const LARGEST: usize = 1 << 20;

pub(crate) async fn read(
    Extract(device): Extract<Device>,
    Path((uid, id)): At,
    Query(piece): Query<Piece>,
    headers: HeaderMap,
) -> Response {
    if let Err(no) = look(&device, &headers, &uid, &id) {
        return no;
    }
    let length = piece.length.min(LARGEST);
    match device.world.images.read((&uid, &id), piece.from, length) {
        Ok(bytes) => bytes.into_response(),
        Err(_) => unknown(),
    }
}

/// Nothing more is taken, and the checksum of what lies there is worked out: begun here, looked at with the image.
pub(crate) async fn seal(
    Extract(device): Extract<Device>,
    Path((uid, id)): At,
    headers: HeaderMap,
) -> Response {
    let object = format!("image:{uid}/{id}");
    let found = fenced(&device, &headers, &object, |state, host, _, _| {
        let volume = mounted(state, host, &uid)?;
        volume.images.get(&id).cloned().ok_or_else(unknown)
    });
    let image = match found {
        Ok(image) => image,
        Err(no) => return no,
    };
    let received = device.world.images.received(&uid, &id);
    if received != image.size {
        let words = format!("{received} of {} bytes are there.", image.size);
        return refused(StatusCode::CONFLICT, "incomplete", words);
    }
    if image.sha256.is_none() && device.world.images.begin(&uid, &id) {
        let (device, uid, id) = (device.clone(), uid.clone(), id.clone());
        tokio::task::spawn_blocking(move || work_out(&device, &uid, &id));
    }
    Json(told(&device, &uid, &id, &image)).into_response()
}

fn work_out(device: &Device, uid: &str, id: &str) {
    let sum = device.world.images.sum(uid, id);
    let mut state = device.world.lock();
    let volume = state.volumes.get_mut(uid);
    let image = volume.and_then(|v| v.images.get_mut(id));
    if let (Ok(sum), Some(image)) = (&sum, image) {
        image.sha256 = Some(sum.clone());
        state.did_what(&device.name, &format!("sealed image {uid}/{id}"));
        device.world.save_volume(&state, uid);
    }
    drop(state);
    let broken = sum.err().map(|e| e.to_string());
    device.world.images.end(uid, id, broken);
}

pub(crate) async fn remove(
    Extract(device): Extract<Device>,
    Path((uid, id)): At,
    headers: HeaderMap,
) -> Response {
    by_owner(
        &device,
        &headers,
        &format!("image:{uid}/{id}"),
        |state, host| {
            let mine = |r: &&crate::rooms::storage::volume::Record| {
                let image = r.boot.image.as_ref();
                image.is_some_and(|i| i.volume == uid && i.id == id)
            };
            let records = state.volumes.values().flat_map(|v| v.records.values());
            if let Some(user) = records.filter(|r| !r.deleted).find(mine) {
                let words = format!("{} has it in its drive.", user.name);
                return Err(refused(StatusCode::CONFLICT, "busy", words));
            }
            let volume = mounted(state, host, &uid)?;
            device.world.packing.end(&format!("pack:{uid}/{id}"));
            volume.images.remove(&id);
            device.world.images.remove(&uid, &id);
            Ok(json!({}))
        },
    )
}
