//! A host and its volumes: logging in on portals, what it sees there, formatting, mounting, growing, giving up.

use crate::agent::{
    change::{Outcome, by_owner},
    owner_only, refused, say,
};
use crate::{
    fault::Device,
    rooms::storage::volume::{OURS, Volume},
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

fn conflict(code: &str, words: impl Into<String>) -> Response {
    refused(StatusCode::CONFLICT, code, words)
}

pub(crate) fn owner(volume: &Volume) -> Value {
    volume.owner.as_ref().map_or(
        Value::Null,
        |(id, name, cluster)| json!({"installation": id, "name": name, "cluster": cluster}),
    )
}

pub(crate) fn paths(state: &State, host: &str, uid: &str) -> Vec<Value> {
    let all = state.paths(host, uid).into_iter();
    all.map(|p| json!({"portal": p.portal, "uplink": p.uplink, "up": p.up}))
        .collect()
}

/// A volume that a host has mounted and reaches.
pub(crate) fn mounted<'a>(
    state: &'a mut State,
    host: &str,
    uid: &str,
) -> Result<&'a mut Volume, Response> {
    let mounts = state
        .hosts
        .get(host)
        .is_some_and(|h| h.mounted.contains(uid));
    if !mounts || !state.reaches(host, uid) {
        let words = "This host does not reach that volume.";
        return Err(refused(StatusCode::SERVICE_UNAVAILABLE, "volume", words));
    }
    let volume = state.volumes.get_mut(uid);
    volume.ok_or_else(|| StatusCode::NOT_FOUND.into_response())
}

/// What is offered to this host, mounted or not.
pub(crate) async fn show(Extract(device): Extract<Device>, headers: HeaderMap) -> Response {
    if let Err(no) = owner_only(&device, &headers) {
        return no;
    }
    let state = device.world.lock();
    let Some(host) = state.hosts.get(&device.name) else {
        return StatusCode::NOT_FOUND.into_response();
    };
    let devices = state.devices(&device.name).into_iter().filter_map(|uid| {
        let volume = state.volumes.get(&uid)?;
        Some(json!({"uid": uid, "name": volume.name, "capacity": volume.capacity, "signature": volume.signature,
            "zero": volume.signature.is_none() && volume.records.is_empty(), "owner": owner(volume),
            "machines": volume.records.len(), "used": volume.used(), "mounted": host.mounted.contains(&uid),
            "paths": paths(&state, &device.name, &uid)}))
    });
    let devices: Vec<Value> = devices.collect();
    Json(json!({"initiator": host.iqn, "portals": host.logins, "devices": devices})).into_response()
}

#[derive(Deserialize)]
pub(crate) struct LogIn {
    portals: Vec<String>,
}

/// Logs in on every portal that answers; says which didn't.
pub(crate) async fn log_in(
    Extract(device): Extract<Device>,
    headers: HeaderMap,
    Json(ask): Json<LogIn>,
) -> Response {
    // Logging in on more portals takes nothing back: whoever comes later is welcome too.
    by_owner(&device, &headers, "logins", |state, name| {
        let State { hosts, arrays, .. } = state;
        let host = hosts
            .get_mut(name)
            .ok_or_else(|| StatusCode::NOT_FOUND.into_response())?;
        let lives = |portal: &String| {
            !host.cut.contains(portal)
                && arrays
                    .values()
                    .flat_map(|a| &a.portals)
                    .any(|p| p.address == *portal && p.up)
        };
        let (fine, dead): (Vec<_>, Vec<_>) = ask.portals.into_iter().partition(lives);
        if fine.is_empty() {
            let words = format!("No portal answers: {}.", dead.join(", "));
            return Err(conflict("portal", words));
        }
        host.logins.extend(fine.iter().cloned());
        Ok(json!({"in": fine, "dead": dead}))
    })
}

fn reached<'a>(state: &'a mut State, host: &str, uid: &str) -> Result<&'a mut Volume, Response> {
    if !state.reaches(host, uid) {
        let words = format!("No path of this host to {uid} works.");
        return Err(conflict("path", words));
    }
    state
        .volumes
        .get_mut(uid)
        .ok_or_else(|| conflict("volume", "There is no such volume."))
}

/// Mounts what carries our format. A volume without owner becomes that of the host's owner.
pub(crate) fn mount(
    state: &mut State,
    host: &str,
    uid: &str,
    cluster: &str,
) -> Result<(), Response> {
    let ours = state.hosts.get(host).and_then(|h| h.owner.clone());
    let volume = reached(state, host, uid)?;
    if volume.signature.as_deref() != Some(OURS) {
        let found = volume.signature.as_deref().unwrap_or("nothing");
        let words = format!("{uid} carries no format that can be mounted: {found}.");
        return Err(conflict("format", words));
    }
    let Some(ours) = ours else {
        return Err(conflict("unclaimed", "This host is not claimed."));
    };
    match &volume.owner {
        Some((id, name, _)) if *id != ours.installation => {
            let words = format!("{} belongs to {name}.", volume.name);
            return Err(conflict("owned", words));
        }
        Some(_) => {}
        None => volume.owner = Some((ours.installation, ours.name, cluster.to_owned())),
    }
    if let Some(host) = state.hosts.get_mut(host) {
        host.mounted.insert(uid.to_owned());
    }
    Ok(())
}

#[derive(Deserialize)]
pub(crate) struct Give {
    #[serde(default)]
    name: String,
    cluster: String,
    /// The installation that it is taken over from.
    #[serde(default)]
    over: Option<String>,
}

fn on_volume(
    device: &Device,
    headers: &HeaderMap,
    uid: &str,
    act: impl FnOnce(&mut State, &str) -> Outcome,
) -> Response {
    let answer = by_owner(device, headers, &format!("volume:{uid}"), act);
    device.world.volume_changed(uid);
    answer
}

/// What one host does with a volume, whatever the others do with it.
fn its_mount(
    device: &Device,
    headers: &HeaderMap,
    uid: &str,
    act: impl FnOnce(&mut State, &str) -> Outcome,
) -> Response {
    let answer = by_owner(device, headers, &format!("mount:{uid}"), act);
    device.world.volume_changed(uid);
    answer
}

/// Formats only what is provably empty.
pub(crate) async fn format(
    Extract(device): Extract<Device>,
    Path(uid): Path<String>,
    headers: HeaderMap,
    Json(ask): Json<Give>,
) -> Response {
    on_volume(&device, &headers, &uid, |state, host| {
        let ours = state.hosts.get(host).and_then(|h| h.owner.clone());
        let volume = reached(state, host, &uid)?;
        if let Some(found) = &volume.signature {
            return Err(conflict(
                "not_empty",
                format!("{uid} is not empty: {found}."),
            ));
        }
        volume.signature = Some(OURS.to_owned());
        volume.name = ask.name;
        volume.owner = ours.map(|o| (o.installation, o.name, ask.cluster));
        Ok(json!({}))
    })
}

/// Takes a volume that nobody owns, or that whoever is named owned before.
pub(crate) async fn take(
    Extract(device): Extract<Device>,
    Path(uid): Path<String>,
    headers: HeaderMap,
    Json(ask): Json<Give>,
) -> Response {
    on_volume(&device, &headers, &uid, |state, host| {
        let ours = state
            .hosts
            .get(host)
            .and_then(|h| h.owner.clone())
            .ok_or_else(|| conflict("unclaimed", "This host is not claimed."))?;
        let volume = reached(state, host, &uid)?;
        if let Some((id, name, _)) = &volume.owner
            && *id != ours.installation
            && ask.over.as_ref() != Some(id)
        {
            return Err(conflict(
                "owned",
                format!("{} belongs to {name}.", volume.name),
            ));
        }
        volume.owner = Some((ours.installation, ours.name, ask.cluster));
        Ok(json!({}))
    })
}

pub(crate) async fn put_mount(
    Extract(device): Extract<Device>,
    Path(uid): Path<String>,
    headers: HeaderMap,
    Json(ask): Json<Give>,
) -> Response {
    its_mount(&device, &headers, &uid, |state, host| {
        mount(state, host, &uid, &ask.cluster)?;
        let volume = state.volumes.get(&uid);
        let (machines, images) = (volume.map(say::records), volume.map(say::images));
        Ok(
            json!({"machines": machines.unwrap_or_default(), "images": images.unwrap_or_default(),
            "paths": paths(state, host, &uid)}),
        )
    })
}

pub(crate) async fn unmount(
    Extract(device): Extract<Device>,
    Path(uid): Path<String>,
    headers: HeaderMap,
) -> Response {
    its_mount(&device, &headers, &uid, |state, host| {
        let Some(host) = state.hosts.get_mut(host) else {
            return Err(StatusCode::NOT_FOUND.into_response());
        };
        let running = host.guests.values().filter(|g| g.volume == uid).count();
        if running > 0 {
            let words = format!("{running} machines run from it here.");
            return Err(conflict("busy", words));
        }
        host.mounted.remove(&uid);
        Ok(json!({}))
    })
}

/// Gives the volume up: it has no owner any more, and everything on it stays.
pub(crate) async fn disown(
    Extract(device): Extract<Device>,
    Path(uid): Path<String>,
    headers: HeaderMap,
) -> Response {
    on_volume(&device, &headers, &uid, |state, host| {
        let elsewhere: Vec<String> = state
            .hosts
            .values()
            .filter(|h| h.name != host && h.mounted.contains(&uid))
            .map(|h| h.name.clone())
            .collect();
        if !elsewhere.is_empty() {
            let words = format!("Still mounted on {}.", elsewhere.join(", "));
            return Err(conflict("busy", words));
        }
        reached(state, host, &uid)?.owner = None;
        if let Some(host) = state.hosts.get_mut(host) {
            host.mounted.remove(&uid);
        }
        Ok(json!({}))
    })
}

/// Lets the format fill a volume that has become larger.
pub(crate) async fn grow(
    Extract(device): Extract<Device>,
    Path(uid): Path<String>,
    headers: HeaderMap,
) -> Response {
    on_volume(&device, &headers, &uid, |state, host| {
        let size = state
            .array_with(&uid)
            .and_then(|a| a.lun_with(&uid))
            .map(|(_, l)| l.capacity);
        let volume = reached(state, host, &uid)?;
        volume.capacity = size.unwrap_or(volume.capacity).max(volume.capacity);
        Ok(json!({"capacity": volume.capacity}))
    })
}
