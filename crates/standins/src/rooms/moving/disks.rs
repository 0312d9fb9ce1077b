//! Moving a machine's disks to another volume: begun, looked at, given up.

use crate::agent::{change::fenced, owner_only, refused};
use crate::{fault::Device, rooms::moving::copying};
use axum::{
    Json,
    extract::{Path, State as Extract},
    http::{HeaderMap, StatusCode},
    response::{IntoResponse, Response},
};
use serde::Deserialize;

#[derive(Deserialize)]
pub(crate) struct Ask {
    /// The volume that they go to.
    to: String,
}

pub(crate) async fn begin(
    Extract(device): Extract<Device>,
    Path(uuid): Path<String>,
    headers: HeaderMap,
    Json(ask): Json<Ask>,
) -> Response {
    let now = device.world.now();
    let begun = fenced(&device, &headers, &uuid.clone(), |state, host, _, _| {
        copying::begin(state, host, &uuid, &ask.to, now)
            .map_err(|(code, words)| refused(StatusCode::CONFLICT, code, words))
    });
    match begun {
        Ok(copy) => Json(copy.told()).into_response(),
        Err(no) => no,
    }
}

pub(crate) async fn show(
    Extract(device): Extract<Device>,
    Path(uuid): Path<String>,
    headers: HeaderMap,
) -> Response {
    if let Err(no) = owner_only(&device, &headers) {
        return no;
    }
    device.world.copy_on(&device.name);
    let state = device.world.lock();
    match state.copies.get(&(device.name.clone(), uuid)) {
        Some(copy) => Json(copy.told()).into_response(),
        None => refused(
            StatusCode::NOT_FOUND,
            "copy",
            "No disks of it are being moved from here.",
        ),
    }
}

pub(crate) async fn cancel(
    Extract(device): Extract<Device>,
    path: Path<String>,
    headers: HeaderMap,
) -> Response {
    device.world.copy_on(&device.name);
    let may = fenced(&device, &headers, &path, |state, host, _, _| {
        copying::cancel(state, host, &path);
        Ok(())
    });
    match may {
        Ok(()) => show(Extract(device), path, headers).await,
        Err(no) => no,
    }
}
