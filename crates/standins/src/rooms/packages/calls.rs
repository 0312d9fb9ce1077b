//! The calls: a file is packed of disks, a disk is written from a file; and what copies from an archive need.

use super::{
    jobs::Look,
    pack::{Archive, Disk, Packed, pack},
    unpack::{Part, unpack},
};
use crate::{
    agent::{change::fenced, refused},
    fault::Device,
    rooms::{
        records::calls::home,
        snapshots::{blocks::Written, chain::Chain, seed},
        storage::volume::Image,
        templates::calls::{From, conflict, gone, mounted, read, room},
    },
    world::{State, World},
};
use axum::{
    Json,
    extract::{Path, State as Extract},
    http::{HeaderMap, StatusCode},
    response::{IntoResponse, Response},
};
use serde::Deserialize;
use serde_json::{Value, json};
use uuid::Uuid;

#[derive(Deserialize)]
pub(crate) struct Pack {
    name: String,
    from: From,
    disks: Vec<Wanted>,
    #[serde(default)]
    archive: Option<Texts>,
}

#[derive(Deserialize)]
struct Wanted {
    key: Uuid,
    name: String,
    #[serde(default)]
    gzip: bool,
}

#[derive(Deserialize)]
struct Texts {
    descriptor: String,
    text: String,
    manifest: String,
}

fn running(done: u64, of: u64) -> Value {
    json!({"stage": "running", "copied": done, "left": of.saturating_sub(done), "rate": 0})
}

fn failed(why: &str) -> Value {
    json!({"stage": "failed", "why": why, "copied": 0, "left": 0, "rate": 0})
}

fn done(size: u64, sha256: &str, took: i64) -> Value {
    json!({"stage": "done", "copied": size, "left": 0, "rate": 0, "took_ms": took, "size": size, "sha256": sha256})
}

pub(crate) async fn pack_file(
    Extract(device): Extract<Device>,
    Path((uid, id)): Path<(String, String)>,
    headers: HeaderMap,
    Json(ask): Json<Pack>,
) -> Response {
    let object = format!("image:{uid}/{id}");
    let said = fenced(&device, &headers, &object, |state, host, _, _| {
        packed(&device, state, host, (&uid, &id), ask)
    });
    match said {
        Ok(said) => {
            device.world.volume_changed(&uid);
            Json(said).into_response()
        }
        Err(no) => no,
    }
}

fn packed(
    device: &Device,
    state: &mut State,
    host: &str,
    (uid, id): (&str, &str),
    ask: Pack,
) -> Result<Value, Response> {
    mounted(state, host, uid)?;
    if let Some(image) = state.volumes.get(uid).and_then(|v| v.images.get(id)) {
        let sum = image.sha256.as_deref();
        let sum = sum.ok_or_else(|| {
            conflict(
                "exists",
                "There is such a file already, and it is not whole.",
            )
        })?;
        return Ok(done(image.size, sum, 0));
    }
    let job = format!("pack:{uid}/{id}");
    match device.world.packing.look(&job) {
        Look::Running { done, of } => return Ok(running(done, of)),
        Look::Over(Err(why)) => {
            device.world.images.remove(uid, id);
            return Ok(failed(&why));
        }
        Look::Over(Ok(file)) => {
            // Measured when it is there: what it would take packed nobody knows before.
            room(state, uid, file.size).inspect_err(|_| device.world.images.remove(uid, id))?;
            if let Some(volume) = state.volumes.get_mut(uid) {
                let image = Image {
                    name: ask.name,
                    size: file.size,
                    sha256: Some(file.sha256.clone()),
                };
                volume.images.insert(id.to_owned(), image);
            }
            state.about_to(&format!("image:{uid}/{id}"));
            state.did_what(host, &format!("packed {id}"));
            return Ok(done(file.size, &file.sha256, file.took));
        }
        Look::None => {}
    }
    let disks = chosen(device, state, host, &ask)?;
    let all = disks.iter().map(|d| d.size).sum();
    let file = device.world.images.create(uid, id);
    let mut file =
        file.map_err(|e| conflict("disk", format!("The volume did not take it: {e}.")))?;
    let archive = ask.archive.map(|a| Archive {
        descriptor: (a.descriptor, a.text),
        manifest: a.manifest,
    });
    let world = device.world.clone();
    device
        .world
        .packing
        .begin(&job, all, move |job| -> Result<Packed, String> {
            pack(&world.grains, &mut file, archive.as_ref(), &disks, job)
        });
    Ok(running(0, all))
}

/// The disks to be packed, with what is on them at this moment.
fn chosen(
    device: &Device,
    state: &mut State,
    host: &str,
    ask: &Pack,
) -> Result<Vec<Disk>, Response> {
    let on = ask
        .from
        .machine
        .as_ref()
        .is_some_and(|m| state.hosts.values().any(|h| h.guests.contains_key(m)));
    if on && ask.from.snapshot.is_none() {
        return Err(conflict(
            "on",
            "The machine is on; its disks are packed as a snapshot has them.",
        ));
    }
    let all = read(state, host, &ask.from, device.world.now())?;
    let one = |wanted: &Wanted| {
        let found = all
            .disks
            .iter()
            .zip(&all.content)
            .find(|(d, _)| d.key == wanted.key);
        let (disk, content) = found.ok_or_else(|| gone("It has no such disk."))?;
        Ok(Disk {
            name: wanted.name.clone(),
            size: disk.size,
            gzip: wanted.gzip,
            content: content.clone(),
        })
    };
    ask.disks.iter().map(one).collect()
}

/// Disks in a file on a volume.
#[derive(Clone, Deserialize)]
pub(crate) struct Package {
    volume: String,
    image: String,
    parts: Vec<Part>,
}

impl Package {
    /// Disks as large as those in it.
    pub(crate) fn disks(&self) -> Vec<crate::rooms::storage::volume::Disk> {
        let disk = |p: &Part| crate::rooms::storage::volume::Disk {
            key: Uuid::nil(),
            size: p.size,
            thick: false,
            written: 0,
            lock: 0,
        };
        self.parts.iter().map(disk).collect()
    }
}

/// What a look at disks that are read from a file says.
pub(crate) enum Unpacked {
    /// How far it is, or why it came to nothing.
    Said(Value),
    There(Vec<Written>),
}

/// Disks from a file, read beside everything else; the same is asked for until it is there.
pub(crate) fn unpacked(
    world: &std::sync::Arc<World>,
    state: &State,
    host: &str,
    id: &str,
    package: &Package,
) -> Result<Unpacked, Response> {
    mounted(state, host, &package.volume)?;
    match world.unpacking.look(id) {
        Look::Running { done, of } => return Ok(Unpacked::Said(running(done, of))),
        Look::Over(Err(why)) => return Ok(Unpacked::Said(failed(&why))),
        Look::Over(Ok(content)) => return Ok(Unpacked::There(content)),
        Look::None => {}
    }
    let whole = state
        .volumes
        .get(&package.volume)
        .and_then(|v| v.images.get(&package.image));
    if whole.is_none_or(|i| i.sha256.is_none()) {
        return Err(gone(
            "There is no such file on this volume, or it is not whole.",
        ));
    }
    let all = package.parts.iter().map(|p| p.size).sum();
    let (world_, package) = (world.clone(), package.clone());
    world.unpacking.begin(id, all, move |job| {
        let open = || world_.images.open_at(&package.volume, &package.image);
        unpack(&world_.grains, open, &package.parts, job)
    });
    Ok(Unpacked::Said(running(0, all)))
}

#[derive(Deserialize)]
pub(crate) struct Fill {
    #[serde(flatten)]
    package: Package,
}

/// A disk of a machine that is off gets what a file holds.
pub(crate) async fn fill(
    Extract(device): Extract<Device>,
    Path((uuid, key)): Path<(String, Uuid)>,
    headers: HeaderMap,
    Json(ask): Json<Fill>,
) -> Response {
    let mut on = String::new();
    let now = device.world.now();
    let said = fenced(&device, &headers, &uuid, |state, host, order, _| {
        let home = home(state, host, &uuid)?;
        home.clone_into(&mut on);
        filled(
            &device,
            state,
            host,
            (&home, &uuid, key),
            (order, &ask.package),
            now,
        )
    });
    match said {
        Ok(said) => {
            device.world.volume_changed(&on);
            Json(said).into_response()
        }
        Err(no) => no,
    }
}

fn filled(
    device: &Device,
    state: &mut State,
    host: &str,
    (home, uuid, key): (&str, &str, Uuid),
    (order, package): (&str, &Package),
    now: i64,
) -> Result<Value, Response> {
    let record = &state.volumes[home].records[uuid];
    if let Some((_, said)) = record.filled.as_ref().filter(|(o, _)| o == order) {
        return Ok(said.clone());
    }
    if record.lease.holder.is_some() {
        return Err(conflict("on", "The machine is on."));
    }
    let Some(index) = record.disks.iter().position(|d| d.key == key) else {
        return Err(gone("It has no such disk."));
    };
    let chain = record.chain.clone();
    let mut chain = chain.unwrap_or_else(|| Box::new(Chain::of(&record.disks, seed(uuid), now)));
    if !chain.snapshots.is_empty() || chain.parent().is_some() {
        return Err(conflict(
            "snapshots",
            "Other states of its disks rest on what is there.",
        ));
    }
    let disk = record.disks[index];
    if package.parts.len() != 1 || package.parts.iter().any(|p| p.size > disk.size) {
        return Err(refused(
            StatusCode::BAD_REQUEST,
            "parts",
            "It is one disk, and no larger than this one.",
        ));
    }
    let content = match unpacked(
        &device.world,
        state,
        host,
        &format!("fill:{uuid}:{key}"),
        package,
    )? {
        Unpacked::Said(said) => return Ok(said),
        Unpacked::There(content) => content.into_iter().next().unwrap_or_default(),
    };
    let takes = crate::rooms::templates::takes(&disk, &content);
    room(state, home, takes)?;
    chain.fill(index, content, &disk);
    let said = done(takes, "", 0);
    let record = state
        .volumes
        .get_mut(home)
        .and_then(|v| v.records.get_mut(uuid));
    if let Some(record) = record {
        record.chain = Some(chain);
        record.filled = Some((order.to_owned(), said.clone()));
    }
    state.about_to(uuid);
    state.did_what(host, &format!("wrote a disk of {uuid}"));
    Ok(said)
}
