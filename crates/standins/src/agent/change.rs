//! Changes: each carries a key and a fence. The answer is kept with the effect, so that a repeated call has none.

use super::{history::admit, owner_only, refused};
use crate::{fault::Device, world::State};
use axum::{
    Json,
    http::{HeaderMap, StatusCode},
    response::{IntoResponse, Response},
};
use serde_json::Value;
use std::collections::BTreeSet;

pub(crate) type Outcome = Result<Value, Response>;

pub(crate) fn header<'a>(headers: &'a HeaderMap, name: &str) -> Option<&'a str> {
    headers.get(name).and_then(|h| h.to_str().ok())
}

/// Runs one change: the kept answer if the key is known, else the fence, else the effect, kept and saved.
pub(crate) fn keyed(
    device: &Device,
    headers: &HeaderMap,
    object: &str,
    act: impl FnOnce(&mut State, i64) -> Outcome,
) -> Response {
    let alone = |state: &State| one_record(state, &device.name, object);
    carry_out(device, headers, object, true, |state, now| {
        alone(state)?;
        act(state, now)
    })
}

/// The same for an order that names the record it is meant for.
pub(crate) fn keyed_at(
    device: &Device,
    headers: &HeaderMap,
    object: &str,
    act: impl FnOnce(&mut State, i64) -> Outcome,
) -> Response {
    carry_out(device, headers, object, true, act)
}

/// Where two records of one machine lie, nobody can tell which one is meant.
pub(crate) fn one_record(state: &State, host: &str, uuid: &str) -> Result<(), Response> {
    if !state.is_twice(host, uuid) {
        return Ok(());
    }
    let words = "Its record lies on more than one volume of this host.";
    Err(refused(StatusCode::CONFLICT, "twice", words))
}

/// The same for what is judged by the generation of a run lease alone: whoever brings machines back while the manager is
/// silent can't know the last fence.
pub(crate) fn by_generation(
    device: &Device,
    headers: &HeaderMap,
    machine: &str,
    act: impl FnOnce(&mut State, i64) -> Outcome,
) -> Response {
    carry_out(device, headers, machine, false, act)
}

fn carry_out(
    device: &Device,
    headers: &HeaderMap,
    object: &str,
    by_fence: bool,
    act: impl FnOnce(&mut State, i64) -> Outcome,
) -> Response {
    device.world.settle(&device.name);
    let (Some(key), Some(fence)) = (
        header(headers, "step-key"),
        header(headers, "fence").and_then(|f| f.parse::<u64>().ok()),
    ) else {
        return refused(
            StatusCode::BAD_REQUEST,
            "headers",
            "Step-Key and Fence are required.",
        );
    };
    let now = device.world.now();
    let mut state = device.world.lock();
    let known = state
        .hosts
        .get(&device.name)
        .and_then(|h| h.answers.get(key))
        .cloned();
    if let Some((status, body)) = known {
        return (
            StatusCode::from_u16(status).unwrap_or(StatusCode::OK),
            Json(body),
        )
            .into_response();
    }
    if let Err(no) = admit(&mut state, &device.name, headers, fence) {
        return no;
    }
    if let Err(highest) = raise_fence(&mut state, &device.name, object, fence)
        && by_fence
    {
        return refused(
            StatusCode::PRECONDITION_FAILED,
            "stale_fence",
            format!("{object} was taken at {highest}; {fence} is older."),
        );
    }
    state.about_to(object);
    let mut touched = beneath(&state, &device.name, object);
    let answer = match act(&mut state, now) {
        Ok(body) => {
            state.about_to(object);
            state.did(&device.name);
            if let Some(host) = state.hosts.get_mut(&device.name) {
                host.answers.insert(key.to_owned(), (200, body.clone()));
                *host.effects.entry(key.to_owned()).or_insert(0) += 1;
            }
            Json(body).into_response()
        }
        Err(no) => no,
    };
    touched.extend(beneath(&state, &device.name, object));
    for uid in touched {
        device.world.volume_changed(&uid);
    }
    device.world.host_changed(&device.name);
    answer
}

/// `volume/id`, of something by itself on a volume.
fn part_of(object: &str) -> Option<&str> {
    object
        .strip_prefix("image:")
        .or_else(|| object.strip_prefix("disk:"))
}

/// The volumes on which something is changed when this object is.
fn beneath(state: &State, host: &str, object: &str) -> BTreeSet<String> {
    let named = object
        .strip_prefix("volume:")
        .or_else(|| object.strip_prefix("mount:"))
        .or_else(|| part_of(object)?.split('/').next());
    if let Some(uid) = named {
        return BTreeSet::from([uid.to_owned()]);
    }
    if object == "host" {
        let mounted = state.hosts.get(host).map(|h| h.mounted.clone());
        return mounted.unwrap_or_default();
    }
    let volumes = state.volumes.iter();
    volumes
        .filter(|(_, v)| v.records.contains_key(object))
        .map(|(uid, _)| uid.clone())
        .collect()
}

/// A change whose effect is looked up rather than kept by its key: checks owner and fence, and passes on key and fence.
pub(crate) fn fenced<T>(
    device: &Device,
    headers: &HeaderMap,
    object: &str,
    act: impl FnOnce(&mut State, &str, &str, u64) -> Result<T, Response>,
) -> Result<T, Response> {
    owner_only(device, headers)?;
    let (Some(key), Some(fence)) = (
        header(headers, "step-key"),
        header(headers, "fence").and_then(|f| f.parse::<u64>().ok()),
    ) else {
        let words = "Step-Key and Fence are required.";
        return Err(refused(StatusCode::BAD_REQUEST, "headers", words));
    };
    let mut state = device.world.lock();
    admit(&mut state, &device.name, headers, fence)?;
    if let Err(highest) = raise_fence(&mut state, &device.name, object, fence) {
        let words = format!("{object} was taken at {highest}; {fence} is older.");
        return Err(refused(
            StatusCode::PRECONDITION_FAILED,
            "stale_fence",
            words,
        ));
    }
    one_record(&state, &device.name, object)?;
    act(&mut state, &device.name, key, fence)
}

/// A change that only whoever owns the host may make; `act` gets the host's name.
pub(crate) fn by_owner(
    device: &Device,
    headers: &HeaderMap,
    object: &str,
    act: impl FnOnce(&mut State, &str) -> Outcome,
) -> Response {
    if let Err(no) = owner_only(device, headers) {
        return no;
    }
    keyed(device, headers, object, |state, _| act(state, &device.name))
}

/// Keeps the highest fence of an object: of a machine on its volume, of the host itself and its mounts here. Hosts mount one
/// volume side by side: none of them overtakes another.
fn raise_fence(state: &mut State, host: &str, object: &str, fence: u64) -> Result<(), u64> {
    let home = state.home(host, object);
    let State { hosts, volumes, .. } = state;
    let Some(host) = hosts.get_mut(host) else {
        return Ok(());
    };
    let slot = if object == "host" {
        &mut host.fence
    } else if object.starts_with("mount:") || object.starts_with("keeper:") {
        host.fences.entry(object.to_owned()).or_insert(0)
    } else if let Some(uid) = object.strip_prefix("volume:") {
        match volumes.get_mut(uid) {
            Some(volume) => volume.fences.entry("volume".to_owned()).or_insert(0),
            None => return Ok(()),
        }
    } else if let Some(uid) = object.strip_prefix("keeping:") {
        match volumes.get_mut(uid) {
            Some(volume) => volume.fences.entry("keeping".to_owned()).or_insert(0),
            None => return Ok(()),
        }
    } else if let Some((uid, _)) = part_of(object).and_then(|o| o.split_once('/')) {
        match volumes.get_mut(uid) {
            Some(volume) => volume.fences.entry(object.to_owned()).or_insert(0),
            None => return Ok(()),
        }
    } else {
        match home.and_then(|uid| volumes.get_mut(&uid)) {
            Some(volume) => volume.fences.entry(object.to_owned()).or_insert(0),
            None => return Ok(()),
        }
    };
    if fence < *slot {
        return Err(*slot);
    }
    *slot = fence;
    Ok(())
}
