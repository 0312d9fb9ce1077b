//! A host taken over and handed back, and its cluster.

use super::host::Owner;
use crate::{
    agent::{
        change::{Outcome, header, keyed},
        check_password, owner_only, refused, say, sha,
    },
    fault::Device,
    rooms::storage::calls::{mount, paths},
    world::State,
};
use axum::{
    Json,
    extract::State as Extract,
    http::{HeaderMap, StatusCode},
    response::{IntoResponse, Response},
};
use serde::Deserialize;
use serde_json::json;

#[derive(Deserialize)]
pub(crate) struct Claim {
    pub(crate) installation: String,
    pub(crate) name: String,
    pub(crate) password: String,
}

pub(crate) async fn claim(
    Extract(device): Extract<Device>,
    headers: HeaderMap,
    Json(ask): Json<Claim>,
) -> Response {
    // The kept answer holds a key: only whoever knows the password that it was claimed with gets it again.
    let repeated = {
        let state = device.world.lock();
        let host = state.hosts.get(&device.name);
        let known = header(&headers, "step-key")
            .is_some_and(|key| host.is_some_and(|h| h.answers.contains_key(key)));
        known
            && host.is_some_and(|h| h.claimed_with.as_deref() == Some(sha(&ask.password).as_str()))
    };
    if !repeated && let Err(no) = check_password(&device, &ask.password) {
        return no;
    }
    let name = device.name.clone();
    keyed(&device, &headers, "host", |state, now| {
        become_owned(state, &name, &ask, now)
    })
}

/// A host that is nobody's belongs to whoever asks, under a key that only both know; its controller gets an account for it.
pub(crate) fn become_owned(state: &mut State, name: &str, ask: &Claim, now: i64) -> Outcome {
    let key = format!(
        "{}{}",
        uuid::Uuid::new_v4().simple(),
        uuid::Uuid::new_v4().simple()
    );
    let secret = uuid::Uuid::new_v4().simple().to_string();
    let host = state
        .hosts
        .get_mut(name)
        .ok_or_else(|| StatusCode::NOT_FOUND.into_response())?;
    if let Some(owner) = &host.owner {
        return Err(refused(
            StatusCode::CONFLICT,
            "owned",
            format!("Claimed by {} already.", owner.name),
        ));
    }
    host.bare.secret.clear();
    host.owner = Some(Owner {
        installation: ask.installation.clone(),
        name: ask.name.clone(),
        key: sha(&key),
    });
    host.bmc_password.clone_from(&secret);
    host.claimed_with = Some(sha(&ask.password));
    let pin = crate::server::pin_of(&host.bmc_identity.certificate).unwrap_or_default();
    let bmc =
        json!({"address": host.bmc_address, "user": "zastrugi", "password": secret, "pin": pin});
    let host = &state.hosts[name];
    Ok(json!({"key": key, "bmc": bmc, "state": say::report(state, host, now)}))
}

pub(crate) async fn release(Extract(device): Extract<Device>, headers: HeaderMap) -> Response {
    let name = device.name.clone();
    let repeated = header(&headers, "step-key").is_some_and(|key| {
        device
            .world
            .lock()
            .hosts
            .get(&name)
            .is_some_and(|h| h.answers.contains_key(key))
    });
    if !repeated && let Err(no) = owner_only(&device, &headers) {
        return no;
    }
    keyed(&device, &headers, "host", |state, _| {
        let host = state
            .hosts
            .get_mut(&name)
            .ok_or_else(|| StatusCode::NOT_FOUND.into_response())?;
        if !host.guests.is_empty() {
            return Err(refused(
                StatusCode::CONFLICT,
                "busy",
                format!("{} machines run here.", host.guests.len()),
            ));
        }
        host.owner = None;
        host.claimed_with = None;
        host.answers.clear();
        host.cluster = None;
        host.keepers.clear();
        "first-light".clone_into(&mut host.password);
        "first-light".clone_into(&mut host.bmc_password);
        host.fence = 0;
        host.seen = Default::default();
        Ok(json!({}))
    })
}

#[derive(Deserialize)]
pub(crate) struct Join {
    name: String,
    /// A volume to mount on the way.
    #[serde(default)]
    volume: Option<String>,
}

pub(crate) async fn join(
    Extract(device): Extract<Device>,
    headers: HeaderMap,
    Json(ask): Json<Join>,
) -> Response {
    if let Err(no) = owner_only(&device, &headers) {
        return no;
    }
    let name = device.name.clone();
    keyed(&device, &headers, "host", |state, _| {
        if let Some(uid) = &ask.volume {
            mount(state, &name, uid, &ask.name)?;
        }
        let host = state
            .hosts
            .get_mut(&name)
            .ok_or_else(|| StatusCode::NOT_FOUND.into_response())?;
        host.cluster = Some(ask.name);
        let Some(uid) = ask.volume else {
            return Ok(json!({"machines": []}));
        };
        let records = state.volumes.get(&uid).map(say::records);
        let paths = paths(state, &name, &uid);
        Ok(json!({"machines": records.unwrap_or_default(), "paths": paths}))
    })
}

pub(crate) async fn leave(Extract(device): Extract<Device>, headers: HeaderMap) -> Response {
    if let Err(no) = owner_only(&device, &headers) {
        return no;
    }
    let name = device.name.clone();
    keyed(&device, &headers, "host", |state, _| {
        let host = state
            .hosts
            .get_mut(&name)
            .ok_or_else(|| StatusCode::NOT_FOUND.into_response())?;
        if !host.guests.is_empty() {
            return Err(refused(
                StatusCode::CONFLICT,
                "busy",
                format!("{} machines run here.", host.guests.len()),
            ));
        }
        host.cluster = None;
        host.mounted.clear();
        Ok(json!({}))
    })
}
