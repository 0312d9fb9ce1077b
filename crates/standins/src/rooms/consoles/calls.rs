//! A guest's text console: what it prints as a stream, what is typed as calls.

use crate::agent::{owner_only, refused};
use crate::{
    fault::Device,
    rooms::consoles::terminal::{Around, Wish},
    rooms::machines::guest::hash,
    world::World,
};
use axum::{
    Json,
    body::{Body, Bytes},
    extract::{Path, Query, State as Extract},
    http::{HeaderMap, StatusCode},
    response::{IntoResponse, Response},
};
use base64::{Engine, prelude::BASE64_STANDARD};
use serde::Deserialize;
use serde_json::{Value, json};
use std::time::{Duration, Instant};

#[derive(Deserialize)]
pub(crate) struct From {
    #[serde(default)]
    from: u64,
}

fn gone() -> Response {
    refused(StatusCode::CONFLICT, "off", "The machine is not on here.")
}

/// Lets the guest print what is due; answers what it printed since `from`.
fn look(world: &World, host: &str, uuid: &str, from: u64, typed: &str) -> Option<(u64, Vec<u8>)> {
    let now = world.now();
    let mut state = world.lock();
    let mut guest = state.hosts.get(host)?.guests.get(uuid)?.clone();
    let volume = state.volumes.get(&guest.volume)?;
    let record = volume.records.get(uuid)?.clone();
    let answers = |to: &str| {
        record.nics.iter().any(|nic| {
            let network = nic.network.as_ref();
            network.is_some_and(|n| state.answers_at(host, n, to).is_some())
        })
    };
    let cluster = || crate::rooms::sharing::guests::status(&state, uuid, &record, now);
    // While it stands still nothing is printed and nothing that is typed is read.
    let (mut crashes, mut keys) = (false, None);
    if guest.frozen.is_none() && guest.crashed.is_none() {
        let serial = state.hosts.get(host).map_or("", |h| h.serial.as_str());
        let around = Around {
            record: &record,
            host_serial: serial,
            phase: guest.phase(now, record.temper),
            up: now - guest.started,
            clock: now,
            answers: &answers,
            cluster: &cluster,
        };
        let mut console = std::mem::take(&mut guest.console);
        console.advance(&around);
        let wish = console.input(typed, &around);
        guest.console = console;
        match wish {
            Some(Wish::PowerOff) => drop(guest.stopping.get_or_insert(now)),
            Some(Wish::Crash) => crashes = true,
            Some(wish @ (Wish::Encrypt | Wish::Agent)) => keys = Some(wish),
            Some(Wish::Unlock) => {
                guest.goes_on(now);
                keys = Some(Wish::Unlock);
            }
            None => {}
        }
    }
    let seen = guest.console.since(from);
    let home = guest.volume.clone();
    state
        .hosts
        .get_mut(host)?
        .guests
        .insert(uuid.to_owned(), guest);
    if let Some(wish) = keys {
        let record = state
            .volumes
            .get_mut(&home)
            .and_then(|v| v.records.get_mut(uuid));
        if let Some(record) = record {
            match wish {
                Wish::Unlock => record.unlock(),
                Wish::Agent => record.temper.agent = true,
                _ => drop(record.encrypt(hash(uuid))),
            }
        }
        world.save_volume(&state, &home);
    }
    if crashes {
        crate::rooms::consoles::screens::crash(&mut state, host, uuid, now);
    }
    Some(seen)
}

/// A line of JSON whenever something was printed, and at least every second; ends when the machine is no longer here.
pub(crate) async fn watch(
    Extract(device): Extract<Device>,
    Path(uuid): Path<String>,
    Query(ask): Query<From>,
    headers: HeaderMap,
) -> Response {
    if let Err(no) = owner_only(&device, &headers) {
        return no;
    }
    if look(&device.world, &device.name, &uuid, ask.from, "").is_none() {
        return gone();
    }
    stream(ask.from, move |from| {
        let on = device.world.is_on(&device.name);
        on.then(|| look(&device.world, &device.name, &uuid, from, ""))?
    })
}

/// Lines of JSON with what `look` tells, whenever there is something and at least every second, until it tells nothing.
pub(crate) fn stream(
    from: u64,
    look: impl Fn(u64) -> Option<(u64, Vec<u8>)> + Send + 'static,
) -> Response {
    let lines = futures::stream::unfold((look, from, true), |(look, from, first)| async move {
        let began = Instant::now();
        loop {
            let (begins, bytes) = look(from)?;
            let beat = began.elapsed() > Duration::from_secs(1);
            if !bytes.is_empty() || beat || first {
                let next = begins + u64::try_from(bytes.len()).unwrap_or(0);
                let said = json!({"from": begins, "bytes": BASE64_STANDARD.encode(&bytes)});
                let line = Bytes::from(format!("{said}\n"));
                return Some((Ok::<_, std::io::Error>(line), (look, next, false)));
            }
            tokio::time::sleep(Duration::from_millis(10)).await;
        }
    });
    let kind = [("content-type", "application/x-ndjson")];
    (kind, Body::from_stream(lines)).into_response()
}

pub(crate) async fn typed(
    Extract(device): Extract<Device>,
    Path(uuid): Path<String>,
    headers: HeaderMap,
    Json(ask): Json<Value>,
) -> Response {
    if let Err(no) = owner_only(&device, &headers) {
        return no;
    }
    let text = ask["text"].as_str().unwrap_or_default();
    if let (Some(columns), Some(rows)) = (ask["columns"].as_u64(), ask["rows"].as_u64()) {
        let mut state = device.world.lock();
        let host = state.hosts.get_mut(&device.name);
        if let Some(guest) = host.and_then(|h| h.guests.get_mut(&uuid)) {
            guest.console.resize(columns, rows);
        }
    }
    match look(&device.world, &device.name, &uuid, u64::MAX, text) {
        Some(_) => Json(json!({})).into_response(),
        None => gone(),
    }
}
