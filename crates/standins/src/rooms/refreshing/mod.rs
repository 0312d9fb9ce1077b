//! The calls by which a disk of one machine is copied to another: over one that it has, or as one more.

use crate::{
    agent::{change::fenced, refused},
    fault::Device,
    rooms::{
        records::calls::home,
        snapshots::{chain::Chain, seed},
        storage::volume::Disk,
        templates::{
            calls::{From, Read, answer, conflict, going_on, gone, read, room},
            copying, takes,
        },
    },
    world::State,
};
use axum::{
    Json,
    extract::{Path, State as Extract},
    http::{HeaderMap, StatusCode},
    response::Response,
};
use serde::Deserialize;
use serde_json::{Value, json};
use uuid::Uuid;

#[derive(Deserialize)]
pub(crate) struct Copy {
    from: From,
    /// Its place among the disks of the other.
    disk: usize,
    /// One more than it has.
    #[serde(default)]
    new: bool,
    size: u64,
    #[serde(default)]
    thick: bool,
}

fn id(uuid: &str, key: Uuid) -> String {
    format!("disk:{uuid}/{key}")
}

pub(crate) async fn copy(
    Extract(device): Extract<Device>,
    Path((uuid, key)): Path<(String, Uuid)>,
    headers: HeaderMap,
    Json(ask): Json<Copy>,
) -> Response {
    let now = device.world.now();
    let mut on = String::new();
    let said = fenced(&device, &headers, &uuid, |state, host, order, _| {
        home(state, host, &uuid)?.clone_into(&mut on);
        copied(state, host, (&on, &uuid, key), (order, &ask), now)
    });
    answer(&device, &on, said)
}

fn copied(
    state: &mut State,
    host: &str,
    (home, uuid, key): (&str, &str, Uuid),
    (order, ask): (&str, &Copy),
    now: i64,
) -> Result<Value, Response> {
    let record = &state.volumes[home].records[uuid];
    if let Some((_, said)) = record.filled.as_ref().filter(|(o, _)| o == order) {
        return Ok(said.clone());
    }
    let holder = record.lease.holder.clone();
    if holder.as_ref().is_some_and(|h| !ask.new || h != host) {
        return Err(conflict("on", "The machine is on."));
    }
    let place = record.disks.iter().position(|d| d.key == key);
    if place.is_some() == ask.new {
        return Err(conflict("disk", "It has such a disk already, or none."));
    }
    let id = id(uuid, key);
    let over = match going_on(state, &id, now) {
        Ok(over) => over,
        Err(said) => return Ok(said),
    };
    let Some((copied, took)) = over else {
        return begin(state, host, (home, &id), ask, now);
    };
    copying::end(state, &id);
    let Some((disks, content, _)) = state.held.remove(&id) else {
        return Err(conflict("source", "What was copied is not known any more."));
    };
    let (Some(had), Some(content)) = (disks.into_iter().next(), content.into_iter().next()) else {
        return Err(gone("It has no such disk."));
    };
    let said = json!({"stage": "done", "copied": copied, "left": 0, "rate": 0, "took_ms": took});
    let record = state
        .volumes
        .get_mut(home)
        .and_then(|v| v.records.get_mut(uuid));
    if let Some(record) = record {
        let alone = || Box::new(Chain::of(&record.disks, seed(uuid), now));
        let mut chain = record.chain.take().unwrap_or_else(alone);
        match place {
            Some(place) => {
                record.disks[place].lock = had.lock;
                let disk = record.disks[place];
                chain.fill(place, content, &disk);
            }
            None => {
                record.disks.push(Disk {
                    key,
                    size: ask.size,
                    thick: ask.thick,
                    written: 0,
                    lock: had.lock,
                });
                chain.put_in(content);
            }
        }
        record.chain = Some(chain);
        record.filled = Some((order.to_owned(), said.clone()));
    }
    state.about_to(uuid);
    state.did_what(host, &format!("copied a disk to {uuid}"));
    Ok(said)
}

fn begin(
    state: &mut State,
    host: &str,
    (home, id): (&str, &str),
    ask: &Copy,
    now: i64,
) -> Result<Value, Response> {
    let Read {
        disks,
        content,
        agent,
    } = read(state, host, &ask.from, now)?;
    let one = disks
        .get(ask.disk)
        .copied()
        .zip(content.get(ask.disk).cloned());
    let (disk, content) = one.ok_or_else(|| gone("It has no such disk."))?;
    if disk.size > ask.size {
        return Err(refused(
            StatusCode::BAD_REQUEST,
            "size",
            "It is larger than what it is copied to.",
        ));
    }
    let bytes = takes(&disk, &content);
    room(state, home, bytes)?;
    copying::begin(state, id, host, home, bytes, now);
    state
        .held
        .insert(id.to_owned(), (vec![disk], vec![content], agent));
    match going_on(state, id, now) {
        Err(said) => Ok(said),
        Ok(_) => Ok(json!({"stage": "running", "copied": 0, "left": bytes, "rate": 0})),
    }
}

/// Ends it, however far it is; what the machine had is as it was.
pub(crate) async fn end(
    Extract(device): Extract<Device>,
    Path((uuid, key)): Path<(String, Uuid)>,
    headers: HeaderMap,
) -> Response {
    let mut on = String::new();
    let said = fenced(&device, &headers, &uuid, |state, host, _, _| {
        home(state, host, &uuid)?.clone_into(&mut on);
        copying::end(state, &id(&uuid, key));
        state.held.remove(&id(&uuid, key));
        Ok(json!({}))
    });
    answer(&device, &on, said)
}
