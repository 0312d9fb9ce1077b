//! A keeper given to a host and taken from it; and what stands on a volume, for keepers to agree by.

use super::agreement::{Added, Agreement, Change};
use crate::{
    agent::{change::fenced, owner_only, refused},
    fault::Device,
    rooms::storage::calls::mounted,
    world::State,
};
use axum::{
    Json,
    extract::{Path, Query, State as Extract},
    http::{HeaderMap, StatusCode},
    response::{IntoResponse, Response},
};
use serde::{Deserialize, Serialize};
use serde_json::json;
use std::collections::BTreeSet;

/// What a keeper was given: sealed, and what opens it, which a host keeps in its security module.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Given {
    /// (number of the history, revision) at which it was made.
    #[serde(default)]
    pub stamp: (u64, u64),
    pub sealed: String,
    pub key: String,
}

pub(crate) async fn give(
    Extract(device): Extract<Device>,
    Path(cluster): Path<String>,
    headers: HeaderMap,
    Json(mut given): Json<Given>,
) -> Response {
    let object = format!("keeper:{cluster}");
    let done = fenced(&device, &headers, &object, |state, name, _, fence| {
        let Some(host) = state.hosts.get_mut(name) else {
            return Err(StatusCode::NOT_FOUND.into_response());
        };
        given.stamp = (host.seen.epoch, fence);
        host.keepers.insert(cluster.clone(), given);
        Ok(())
    });
    device.world.host_changed(&device.name);
    match done {
        Ok(()) => StatusCode::NO_CONTENT.into_response(),
        Err(no) => no,
    }
}

pub(crate) async fn show(
    Extract(device): Extract<Device>,
    Path(cluster): Path<String>,
    headers: HeaderMap,
) -> Response {
    if let Err(no) = owner_only(&device, &headers) {
        return no;
    }
    let state = device.world.lock();
    let host = state.hosts.get(&device.name);
    match host.and_then(|h| Some((h.keepers.get(&cluster)?, h.keepers_run.get(&cluster)))) {
        Some((given, runs)) => Json(json!({
            "epoch": given.stamp.0, "revision": given.stamp.1, "runs": runs.is_some(), "keeps": runs == Some(&true)
        }))
        .into_response(),
        None => refused(StatusCode::NOT_FOUND, "keeper", "This host runs no keeper of it."),
    }
}

pub(crate) async fn take(
    Extract(device): Extract<Device>,
    Path(cluster): Path<String>,
    headers: HeaderMap,
) -> Response {
    let object = format!("keeper:{cluster}");
    let done = fenced(&device, &headers, &object, |state, name, _, _| {
        if let Some(host) = state.hosts.get_mut(name) {
            host.keepers.remove(&cluster);
            host.keepers_run.remove(&cluster);
        }
        Ok(())
    });
    device.world.host_changed(&device.name);
    match done {
        Ok(()) => StatusCode::NO_CONTENT.into_response(),
        Err(no) => no,
    }
}

/// What keepers agree by on a volume that this host reaches.
fn on<'a>(state: &'a mut State, host: &str, uid: &str) -> Result<&'a mut Agreement, Response> {
    mounted(state, host, uid).map(|v| &mut v.agreement)
}

fn said(agreement: &Agreement) -> Response {
    let held = &agreement.held;
    Json(json!({
        "members": agreement.members, "token": held.token, "holder": held.holder, "counter": held.counter,
        "hears": held.hears, "last": agreement.last
    }))
    .into_response()
}

pub(crate) async fn agreement(
    Extract(device): Extract<Device>,
    Path(uid): Path<String>,
    headers: HeaderMap,
) -> Response {
    if let Err(no) = owner_only(&device, &headers) {
        return no;
    }
    let mut state = device.world.lock();
    match on(&mut state, &device.name, &uid) {
        Ok(found) => said(found),
        Err(no) => no,
    }
}

#[derive(Deserialize)]
pub(crate) struct Named {
    members: BTreeSet<String>,
}

pub(crate) async fn name(
    Extract(device): Extract<Device>,
    Path(uid): Path<String>,
    headers: HeaderMap,
    Json(ask): Json<Named>,
) -> Response {
    let object = format!("keeping:{uid}");
    let done = fenced(&device, &headers, &object, |state, name, _, _| {
        let found = on(state, name, &uid)?;
        found.members = ask.members;
        // Whoever is not named any more does not decide from now on.
        let deposed = found
            .held
            .holder
            .as_ref()
            .is_some_and(|h| !found.members.contains(h));
        if deposed {
            found.held.token += 1;
            found.held.holder = None;
        }
        Ok(said(found))
    });
    device.world.volume_changed(&uid);
    match done {
        Ok(said) => said,
        Err(no) => no,
    }
}

/// The present state where it was not as the caller thought.
pub(crate) async fn change(
    Extract(device): Extract<Device>,
    Path(uid): Path<String>,
    headers: HeaderMap,
    Json(ask): Json<Change>,
) -> Response {
    if let Err(no) = owner_only(&device, &headers) {
        return no;
    }
    let mut state = device.world.lock();
    let found = match on(&mut state, &device.name, &uid) {
        Ok(found) => found,
        Err(no) => return no,
    };
    let before = found.held.token;
    match found.change(&ask) {
        Ok(true) => {
            let answer = said(found);
            if found.held.token != before {
                device.world.volume_changed(&uid);
            }
            answer
        }
        Ok(false) => refused(StatusCode::CONFLICT, "changed", "It is not as you read it."),
        Err(words) => refused(StatusCode::FORBIDDEN, "not_named", words),
    }
}

#[derive(Deserialize)]
pub(crate) struct After {
    #[serde(default)]
    after: u64,
}

pub(crate) async fn journal(
    Extract(device): Extract<Device>,
    Path(uid): Path<String>,
    Query(from): Query<After>,
    headers: HeaderMap,
) -> Response {
    if let Err(no) = owner_only(&device, &headers) {
        return no;
    }
    let mut state = device.world.lock();
    match on(&mut state, &device.name, &uid) {
        Ok(found) => Json(json!({"lines": found.after(from.after)})).into_response(),
        Err(no) => no,
    }
}

pub(crate) async fn add(
    Extract(device): Extract<Device>,
    Path((uid, index)): Path<(String, u64)>,
    headers: HeaderMap,
    Json(ask): Json<Added>,
) -> Response {
    if let Err(no) = owner_only(&device, &headers) {
        return no;
    }
    let mut state = device.world.lock();
    let found = match on(&mut state, &device.name, &uid) {
        Ok(found) => found,
        Err(no) => return no,
    };
    match found.add(index, ask) {
        Ok(()) => {
            device.world.volume_changed(&uid);
            StatusCode::NO_CONTENT.into_response()
        }
        Err(words) => refused(StatusCode::CONFLICT, "journal", words),
    }
}
