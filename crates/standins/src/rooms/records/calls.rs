//! The call that takes a record from its volume; its disks stay, and no machine has them.

use crate::{
    agent::{
        change::{Outcome, keyed},
        owner_only, refused,
    },
    fault::Device,
    rooms::{
        hardware::unattached::Spare,
        snapshots::{chain::Chain, seed},
        storage::volume::Disk,
    },
    world::State,
};
use axum::{
    extract::{Path, State as Extract},
    http::{HeaderMap, StatusCode},
    response::Response,
};
use serde_json::json;
use uuid::Uuid;

fn conflict(code: &str, words: impl Into<String>) -> Response {
    refused(StatusCode::CONFLICT, code, words)
}

/// The volume of a machine that this host sees and reaches.
pub(crate) fn home(state: &State, host: &str, uuid: &str) -> Result<String, Response> {
    let found = state.home(host, uuid);
    let mounted = |uid: &String| {
        state
            .hosts
            .get(host)
            .is_some_and(|h| h.mounted.contains(uid))
    };
    let found = found.filter(|uid| mounted(uid) && state.reaches(host, uid));
    found.ok_or_else(|| {
        let words = "No volume that this host sees has such a machine.";
        refused(StatusCode::NOT_FOUND, "machine", words)
    })
}

pub(crate) async fn forget(
    Extract(device): Extract<Device>,
    Path((uid, uuid)): Path<(String, String)>,
    headers: HeaderMap,
) -> Response {
    if let Err(no) = owner_only(&device, &headers) {
        return no;
    }
    let host = device.name.clone();
    let object = format!("record:{uid}/{uuid}");
    keyed(&device, &headers, &object, |state, now| {
        let mounted = state.hosts.get(&host);
        let mounted = mounted.is_some_and(|h| h.mounted.contains(&uid));
        if !mounted || !state.reaches(&host, &uid) {
            return Err(conflict("volume", "The volume is not mounted."));
        }
        taken_away(state, &uid, &uuid, now)
    })
}

fn taken_away(state: &mut State, uid: &str, uuid: &str, now: i64) -> Outcome {
    let by_it = |g: &crate::rooms::machines::guest::Guest| g.volume == uid;
    let on = state
        .hosts
        .values()
        .any(|h| h.guests.get(uuid).is_some_and(by_it));
    let mut others = state.volumes.iter().filter(|(other, _)| *other != uid);
    let twin = others.any(|(_, v)| v.records.contains_key(uuid));
    let Some(volume) = state.volumes.get_mut(uid) else {
        return Err(conflict("volume", "The volume is not mounted."));
    };
    let Some(record) = volume.records.get(uuid) else {
        let words = "No such record lies there.";
        return Err(refused(StatusCode::NOT_FOUND, "record", words));
    };
    if on || record.lease.holder.is_some() {
        return Err(conflict("running", format!("{} is on.", record.name)));
    }
    let chain = match &record.chain {
        Some(chain) => chain.clone(),
        None => Box::new(Chain::of(&record.disks, seed(uuid), now)),
    };
    let content = chain.seen_from(chain.current);
    let spare = |(disk, content): (&Disk, _)| Spare {
        disk: Disk {
            // Two disks never have one key.
            key: if twin { Uuid::new_v4() } else { disk.key },
            ..*disk
        },
        content,
        had: record.name.clone(),
        since: now,
        deleted: None,
    };
    let all: Vec<Spare> = record.disks.iter().zip(content).map(spare).collect();
    // What it shared with a version of a template, it has for itself now.
    let (had, has) = (
        crate::rooms::moving::copying::takes(record),
        all.iter().map(Spare::takes).sum::<u64>(),
    );
    let free = volume.free();
    if has.saturating_sub(had) > free {
        let words = format!("{free} bytes are free, {} more are needed.", has - had);
        return Err(refused(StatusCode::INSUFFICIENT_STORAGE, "full", words));
    }
    volume.records.remove(uuid);
    all.into_iter().for_each(|s| volume.unattached.put(s));
    Ok(json!({"unattached": volume.unattached.told()}))
}
