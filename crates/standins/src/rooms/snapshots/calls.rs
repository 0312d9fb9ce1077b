//! The calls: looked at, taken, given up or folded, gone back to.

use super::{
    chain::Chain,
    going::{self, No, Wish},
    still, told,
};
use crate::{
    agent::{change::fenced, owner_only, refused},
    fault::Device,
    rooms::storage::volume::Record,
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

#[derive(Deserialize)]
pub(crate) struct Take {
    name: String,
    #[serde(default)]
    note: String,
    /// The guest's file systems stand still for it.
    #[serde(default)]
    quiet: bool,
    /// With what is in memory.
    #[serde(default)]
    memory: bool,
    /// While its file systems stand still for this.
    #[serde(default)]
    frozen: Option<String>,
}

#[derive(Deserialize)]
pub(crate) struct Freeze {
    /// They go on by themselves after so long, in milliseconds.
    for_ms: i64,
}

#[derive(Deserialize)]
pub(crate) struct Forget {
    /// Their identifiers.
    snapshots: Vec<String>,
}

fn no((code, words): No) -> Response {
    refused(StatusCode::CONFLICT, code, words)
}

fn unknown() -> Response {
    refused(
        StatusCode::NOT_FOUND,
        "machine",
        "There is no such machine.",
    )
}

/// The record of a machine that this host sees.
fn record<'a>(state: &'a State, host: &str, uuid: &str) -> Option<&'a Record> {
    let host = state.hosts.get(host)?;
    let mounted = host.mounted.iter().filter_map(|uid| state.volumes.get(uid));
    mounted.into_iter().find_map(|v| v.records.get(uuid))
}

/// Looks at something of a machine, as it is by now.
fn look(
    device: &Device,
    headers: &HeaderMap,
    uuid: &str,
    say: impl FnOnce(&State, &Record) -> Response,
) -> Response {
    if let Err(no) = owner_only(device, headers) {
        return no;
    }
    device.world.fold_on(&device.name);
    let now = device.world.now();
    let mut state = device.world.lock();
    going::follow(&mut state, &device.name, uuid, now, 0);
    match record(&state, &device.name, uuid) {
        Some(record) => say(&state, record),
        None => unknown(),
    }
}

pub(crate) async fn show(
    Extract(device): Extract<Device>,
    Path(uuid): Path<String>,
    headers: HeaderMap,
) -> Response {
    look(&device, &headers, &uuid, |state, record| {
        let (all, rests_on) = told::snapshots(record);
        let going = state.going.get(&(device.name.clone(), uuid.clone()));
        let going = going.map(super::going::Going::told);
        Json(json!({"snapshots": all, "rests_on": rests_on, "going": going})).into_response()
    })
}

pub(crate) async fn layers(
    Extract(device): Extract<Device>,
    Path(uuid): Path<String>,
    headers: HeaderMap,
) -> Response {
    look(&device, &headers, &uuid, |_, record| {
        let chain = record.chain.as_deref().cloned();
        let chain = chain.unwrap_or_else(|| Chain::of(&record.disks, super::seed(&uuid), 0));
        match told::layers(&chain) {
            Ok(said) => Json(said).into_response(),
            Err(_) => StatusCode::INTERNAL_SERVER_ERROR.into_response(),
        }
    })
}

/// A change of a machine's chain: by its fence, and safe to repeat because it looks first.
fn change(
    device: &Device,
    headers: &HeaderMap,
    uuid: &str,
    act: impl FnOnce(&mut State, &str, &str, i64) -> Result<Value, No>,
) -> Response {
    device.world.fold_on(&device.name);
    let now = device.world.now();
    let said = fenced(device, headers, uuid, |state, host, key, _| {
        let said = act(state, host, key, now).map_err(no)?;
        let volumes = state.volumes.iter();
        let home = volumes
            .filter(|(_, v)| v.records.contains_key(uuid))
            .map(|(uid, _)| uid.clone())
            .collect::<Vec<_>>();
        Ok((said, home))
    });
    match said {
        Ok((said, home)) => {
            home.iter().for_each(|uid| device.world.volume_changed(uid));
            device.world.host_changed(&device.name);
            Json(said).into_response()
        }
        Err(no) => no,
    }
}

pub(crate) async fn take(
    Extract(device): Extract<Device>,
    Path((uuid, id)): Path<(String, String)>,
    headers: HeaderMap,
    Json(ask): Json<Take>,
) -> Response {
    let wish = Wish {
        name: ask.name,
        note: ask.note,
        quiet: ask.quiet,
        memory: ask.memory,
        frozen: ask.frozen,
    };
    change(&device, &headers, &uuid, |state, host, _, now| {
        going::take(state, host, &uuid, &id, wish, now)
    })
}

/// Its file systems stand still until somebody says that they may go on, or for so long.
pub(crate) async fn freeze(
    Extract(device): Extract<Device>,
    Path((uuid, id)): Path<(String, String)>,
    headers: HeaderMap,
    Json(ask): Json<Freeze>,
) -> Response {
    change(&device, &headers, &uuid, |state, host, _, now| {
        still::freeze(state, host, (&uuid, &id), ask.for_ms, now)
    })
}

/// They go on; whether they stood still until now.
pub(crate) async fn thaw(
    Extract(device): Extract<Device>,
    Path((uuid, id)): Path<(String, String)>,
    headers: HeaderMap,
) -> Response {
    change(&device, &headers, &uuid, |state, host, _, now| {
        still::thaw(state, host, (&uuid, &id), now)
    })
}

pub(crate) async fn forget(
    Extract(device): Extract<Device>,
    Path(uuid): Path<String>,
    headers: HeaderMap,
    Json(ask): Json<Forget>,
) -> Response {
    change(&device, &headers, &uuid, |state, host, _, now| {
        going::forget(state, host, &uuid, &ask.snapshots, now)
    })
}

pub(crate) async fn go_back(
    Extract(device): Extract<Device>,
    Path((uuid, id)): Path<(String, String)>,
    headers: HeaderMap,
) -> Response {
    change(&device, &headers, &uuid, |state, host, key, now| {
        going::go_back(state, host, &uuid, &id, key, now)
    })
}
