//! What was brought of a replica becomes its next point: laid over the point that it stands on, and frozen at once.

use super::calls::gone;
use crate::{
    agent::change::fenced,
    fault::Device,
    rooms::{
        records::calls::home,
        snapshots::{
            chain::{Chain, Snapshot},
            seed,
        },
        storage::volume::Disk,
        templates::calls::{answer, conflict, mounted},
    },
    world::State,
};
use axum::{
    Json,
    extract::{Path, State as Extract},
    http::HeaderMap,
    response::Response,
};
use serde::Deserialize;
use serde_json::{Value, json};
use uuid::Uuid;

#[derive(Deserialize)]
pub(crate) struct Follow {
    volume: String,
    delivery: String,
    /// The snapshot that it stands on; none: its disks hold what is brought and nothing else.
    #[serde(default)]
    base: Option<String>,
    /// The snapshot that is made of it.
    point: String,
    name: String,
    /// When the original was so, in milliseconds since 1970.
    taken_ms: i64,
    #[serde(default)]
    quiet: bool,
    #[serde(default)]
    off: bool,
    /// All disks that it has then.
    disks: Vec<Onto>,
}

#[derive(Deserialize)]
struct Onto {
    from: Uuid,
    onto: Uuid,
    size: u64,
}

/// A machine that is off holds what its original held.
pub(crate) async fn follow(
    Extract(device): Extract<Device>,
    Path(uuid): Path<String>,
    headers: HeaderMap,
    Json(ask): Json<Follow>,
) -> Response {
    let now = device.world.now();
    let mut on = String::new();
    let said = fenced(&device, &headers, &uuid, |state, host, _, _| {
        home(state, host, &uuid)?.clone_into(&mut on);
        followed(state, host, (&on, &uuid), &ask, now)
    });
    answer(&device, &on, said)
}

fn followed(
    state: &mut State,
    host: &str,
    (home, uuid): (&str, &str),
    ask: &Follow,
    now: i64,
) -> Result<Value, Response> {
    let record = &state.volumes[home].records[uuid];
    let there = record.chain.as_ref();
    if there.is_some_and(|c| c.snapshots.contains_key(&ask.point)) {
        return Ok(json!({"bytes": 0}));
    }
    if record.lease.holder.is_some() {
        return Err(conflict("on", "The machine is on."));
    }
    if let Some(base) = &ask.base
        && !there.is_some_and(|c| c.stands_on(base))
    {
        let words = "It does not stand on that point, or was written to since.";
        return Err(conflict("base", words));
    }
    mounted(state, host, &ask.volume)?;
    let delivery = state.volumes.get(&ask.volume);
    let delivery = delivery.and_then(|v| v.deliveries.get(&ask.delivery));
    let delivery = delivery.cloned().ok_or_else(gone)?;
    if ask.disks.iter().any(|d| !delivery.fits(&d.from, d.size)) {
        return Err(conflict("disk", "One of the disks was not brought."));
    }
    let said = json!({"bytes": delivery.takes()});
    let record = state.volumes.get_mut(home);
    let Some(record) = record.and_then(|v| v.records.get_mut(uuid)) else {
        return Err(gone());
    };
    let alone = || Box::new(Chain::of(&record.disks, seed(uuid), now));
    let mut chain = record.chain.take().unwrap_or_else(alone);
    for disk in &ask.disks {
        let Some(brought) = delivery.disk(&disk.from) else {
            continue;
        };
        match record.disks.iter().position(|d| d.key == disk.onto) {
            Some(place) => {
                let own = &mut record.disks[place];
                own.size = own.size.max(disk.size);
                match ask.base {
                    Some(_) => chain.lay_in(place, &brought.content, brought.confirmed()),
                    None => chain.lay_over(place, brought.content.clone(), own),
                }
            }
            None => {
                record.disks.push(Disk {
                    key: disk.onto,
                    size: disk.size,
                    thick: false,
                    written: 0,
                    lock: 0,
                });
                chain.put_in(brought.content.clone());
            }
        }
    }
    let snapshot = Snapshot {
        layer: 0,
        name: ask.name.clone(),
        note: String::new(),
        taken: ask.taken_ms,
        quiet: ask.quiet,
        off: ask.off,
        memory: None,
        still: 0,
    };
    chain.take(&ask.point, snapshot);
    record.chain = Some(chain);
    if let Some(volume) = state.volumes.get_mut(&ask.volume) {
        volume.deliveries.remove(&ask.delivery);
    }
    state.about_to(uuid);
    state.did_what(host, &format!("brought {uuid} up to date"));
    Ok(said)
}
