//! Moving a machine: what the destination promises, and what the source does.

use crate::agent::{change::fenced, owner_only, refused};
use crate::{
    fault::Device,
    rooms::moving::sending::{Ask, begin},
};
use axum::{
    Json,
    extract::{Path, State as Extract},
    http::{HeaderMap, StatusCode},
    response::{IntoResponse, Response},
};
use serde::Deserialize;
use serde_json::json;

fn conflict(code: &str, words: impl Into<String>) -> Response {
    refused(StatusCode::CONFLICT, code, words)
}

#[derive(Deserialize)]
pub(crate) struct Arrival {
    /// The host that it comes from.
    from: String,
}

/// Holds room for a machine; answers where it is awaited and the word that its source must say.
pub(crate) async fn arrive(
    Extract(device): Extract<Device>,
    Path(uuid): Path<String>,
    headers: HeaderMap,
    Json(ask): Json<Arrival>,
) -> Response {
    let arriving = device.world.moves.arriving(&device.name, &uuid);
    let room = fenced(&device, &headers, &uuid.clone(), |state, name, _, _| {
        let volume = state
            .home(name, &uuid)
            .ok_or_else(|| conflict("machine", "There is no such machine."))?;
        let host = &state.hosts[name];
        if !host.mounted.contains(&volume) || !state.reaches(name, &volume) {
            return Err(conflict(
                "path",
                format!("No path of this host to {volume} works."),
            ));
        }
        let kept = state.volumes[&volume].records[&uuid].memory.kept;
        let on = host.guests.iter().filter_map(|(other, g)| {
            let record = state.volumes.get(&g.volume)?.records.get(other)?;
            Some(record.memory.kept)
        });
        if on.sum::<u64>() + arriving + kept > host.memory {
            return Err(conflict("memory", "Not enough memory on this host."));
        }
        Ok((kept, crate::moving_address(&host.address)))
    });
    match room {
        Ok((kept, address)) => {
            let ticket = device
                .world
                .moves
                .await_machine(&device.name, &uuid, &ask.from, kept);
            Json(json!({"address": address, "ticket": ticket})).into_response()
        }
        Err(no) => no,
    }
}

pub(crate) async fn leave(
    Extract(device): Extract<Device>,
    Path(uuid): Path<String>,
    headers: HeaderMap,
    Json(ask): Json<Ask>,
) -> Response {
    let may = fenced(
        &device,
        &headers,
        &uuid.clone(),
        |state, name, key, fence| {
            let moves = device.world.moves.of(name, &uuid);
            let known = moves.is_some_and(|m| m.fence == fence);
            let runs = state
                .hosts
                .get(name)
                .is_some_and(|h| h.guests.contains_key(&uuid));
            if !runs && !known {
                return Err(conflict("off", "The machine is not on here."));
            }
            Ok((key.to_owned(), fence))
        },
    );
    match may {
        Ok((key, fence)) => {
            let told = begin(&device.world, &device.name, &uuid, &key, fence, ask);
            Json(told.told()).into_response()
        }
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
    match device.world.moves.of(&device.name, &uuid) {
        Some(found) => Json(found.told()).into_response(),
        None => refused(
            StatusCode::NOT_FOUND,
            "move",
            "It is not being moved from here.",
        ),
    }
}

pub(crate) async fn cancel(
    Extract(device): Extract<Device>,
    path: Path<String>,
    headers: HeaderMap,
) -> Response {
    let world = &device.world;
    let may = fenced(&device, &headers, &path, |_, host, _, _| {
        world.moves.cancel(host, &path);
        Ok(())
    });
    match may {
        Ok(()) => show(Extract(device), path, headers).await,
        Err(no) => no,
    }
}
