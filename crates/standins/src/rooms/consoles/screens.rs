//! A guest's graphical screen: the remote framebuffer protocol on an upgraded connection, the picture of now, and the one
//! that was kept when it crashed, was reset or switched off.

use crate::agent::{owner_only, refused};
use crate::{
    fault::Device,
    rooms::consoles::screen::{self, Layout, Scene, Screen, Wish},
    rooms::consoles::terminal::time_of_day,
    rooms::hosts::host::Kept,
    rooms::machines::guest::{BOOT, Guest},
    rooms::storage::volume::Record,
    world::{State, World},
};
use axum::{
    body::Body,
    extract::{Path, Query, Request, State as Extract},
    http::{HeaderMap, StatusCode, header},
    response::{IntoResponse, Response},
};
use hyper_util::rt::TokioIo;
use serde::Deserialize;

/// How many lines of the text console the second screen shows.
const TAIL: usize = 29;

#[derive(Deserialize)]
pub(crate) struct Ask {
    /// The keyboard that the guest has: `us`, `de`, `fr`, `se`.
    #[serde(default)]
    keyboard: String,
}

/// What a screen shows just now.
#[derive(Clone, PartialEq)]
struct Shown {
    screen: Screen,
    scene: Scene,
    console: Vec<String>,
}

impl Shown {
    fn paint(&self) -> Vec<u32> {
        screen::paint(&self.screen, &self.scene, &self.console)
    }
}

fn scene(guest: &Guest, record: &Record, host: &str, now: i64) -> Scene {
    let up = guest.frozen.unwrap_or(now) - guest.started;
    if let Some(since) = guest.crashed {
        return Scene::Crashed(vec![
            format!(
                "[{:>12.6}] Pilot Linux 12: the kernel has stopped",
                since as f64 / 1000.0
            ),
            format!("[{:>12.6}] in: write_back+0x1f2", since as f64 / 1000.0),
            format!(
                "[{:>12.6}] machine {}, host {host}",
                since as f64 / 1000.0,
                record.name
            ),
            "Nothing more will happen here.".into(),
        ]);
    }
    let lines = |text: &[&str]| Scene::Lines(text.iter().map(|t| (*t).to_owned()).collect());
    match guest.phase(now, record.temper) {
        "up" | "stopping" | "paused" => {
            let clock = time_of_day(guest.frozen.unwrap_or(now));
            Scene::Up {
                name: record.name.clone(),
                clock: clock[..8].to_owned(),
            }
        }
        "installer" => lines(&["Installer: writing the system to disk 1"]),
        "loader" if guest.spoilt => lines(&[
            "Firmware 3.2 for virtual machines",
            "Disk 1: ready",
            "Disk 1 has no loader.",
        ]),
        "loader of what it boots from" => lines(&["Loader of the image or the network"]),
        _ => {
            let shown = BOOT.iter().filter(|(at, _)| *at <= up);
            Scene::Lines(shown.map(|(_, line)| (*line).to_owned()).collect())
        }
    }
}

fn shown(state: &State, host: &str, uuid: &str, now: i64) -> Option<Shown> {
    let at = state.hosts.get(host)?;
    let guest = at.guests.get(uuid)?;
    let record = state.volumes.get(&guest.volume)?.records.get(uuid)?;
    Some(Shown {
        screen: guest.screen.clone(),
        scene: scene(guest, record, &at.serial, now),
        console: guest.console.tail(TAIL),
    })
}

/// Keeps the picture of a guest as it is now, before something ends it.
pub(crate) fn keep(state: &mut State, host: &str, uuid: &str, now: i64, why: &str) {
    let Some(picture) = shown(state, host, uuid, now).map(|s| screen::png(&s.paint())) else {
        return;
    };
    if let Some(at) = state.hosts.get_mut(host) {
        let kept = Kept {
            number: now,
            why: why.to_owned(),
            png: picture,
        };
        at.kept.insert(uuid.to_owned(), kept);
    }
}

impl World {
    /// A guest's kernel stops, from one moment to the next.
    pub fn crash(&self, machine: &str) {
        let now = self.now();
        let mut state = self.lock();
        if let Some((host, uuid)) = running(&state, machine) {
            crash(&mut state, &host, &uuid, now);
        }
    }
    /// Somebody presses its reset.
    pub(crate) fn boot_guest(&self, machine: &str) {
        let now = self.now();
        let mut state = self.lock();
        let found = running(&state, machine);
        let guest =
            found.and_then(|(host, uuid)| state.hosts.get_mut(&host)?.guests.get_mut(&uuid));
        if let Some(guest) = guest {
            guest.boot_again(now);
        }
    }
    /// Nothing of a guest goes on, or it does again; `agent`: only its agent.
    pub fn hang_guest(&self, machine: &str, agent: bool, hangs: bool) {
        let now = self.now();
        let mut state = self.lock();
        let found = running(&state, machine);
        let guest =
            found.and_then(|(host, uuid)| state.hosts.get_mut(&host)?.guests.get_mut(&uuid));
        if let Some(guest) = guest {
            let of = if agent {
                &mut guest.mute
            } else {
                &mut guest.hung
            };
            *of = hangs.then_some(now);
        }
    }
    /// Machines that run, with whether each hangs, its agent is silent, it crashed, or is slow to stand still, has no loader on its disk; and whether one
    /// that shares disks does so otherwise than it shall.
    pub(crate) fn guests(&self) -> Vec<(String, [bool; 5], Option<bool>)> {
        let state = self.lock();
        let all = state.hosts.values().flat_map(|h| &h.guests);
        let named = all.filter_map(|(uuid, guest)| {
            let record = state.volumes.get(&guest.volume)?.records.get(uuid)?;
            let is = [
                guest.hung.is_some(),
                guest.mute.is_some(),
                guest.crashed.is_some(),
                record.temper.slow,
                crate::rooms::machines::questions::spoilt(record.chain.as_deref()),
            ];
            let shares = record.shares.first().map(|s| !s.reserves());
            Some((record.name.clone(), is, shares))
        });
        named.collect()
    }
}

/// The host and number of a machine that runs, by its name.
fn running(state: &State, machine: &str) -> Option<(String, String)> {
    state.hosts.values().find_map(|host| {
        let named = |uuid: &String, guest: &Guest| {
            let volume = state.volumes.get(&guest.volume)?;
            (volume.records.get(uuid)?.name == machine).then(|| uuid.clone())
        };
        let uuid = host
            .guests
            .iter()
            .find_map(|(uuid, guest)| named(uuid, guest))?;
        Some((host.name.clone(), uuid))
    })
}

/// The kernel stops, and the host keeps the picture of what it said last.
pub(crate) fn crash(state: &mut State, host: &str, uuid: &str, now: i64) {
    let guest = state
        .hosts
        .get_mut(host)
        .and_then(|h| h.guests.get_mut(uuid));
    if let Some(guest) = guest {
        guest.crashed.get_or_insert(now - guest.started);
        keep(state, host, uuid, now, "the guest crashed");
    }
}

/// A key or the pointer; a guest that stands still or has crashed takes nothing in.
fn told(world: &World, host: &str, uuid: &str, layout: Layout, what: screen::Told) {
    let now = world.now();
    let mut state = world.lock();
    let guest = state
        .hosts
        .get_mut(host)
        .and_then(|h| h.guests.get_mut(uuid));
    let Some(guest) = guest.filter(|g| g.frozen.is_none() && g.crashed.is_none()) else {
        return;
    };
    let wish = match what {
        screen::Told::Key { symbol, down } => guest.screen.symbol(layout, symbol, down),
        screen::Told::Pointer { x, y, pressed } => {
            guest.screen.point(x, y, pressed);
            None
        }
    };
    if wish == Some(Wish::Restart) {
        keep(
            &mut state,
            host,
            uuid,
            now,
            "somebody restarted it at its screen",
        );
        if let Some(guest) = state
            .hosts
            .get_mut(host)
            .and_then(|h| h.guests.get_mut(uuid))
        {
            guest.boot_again(now);
        }
    }
}

/// Switches to the remote framebuffer protocol: `Upgrade: rfb`.
pub(crate) async fn upgrade(
    Extract(device): Extract<Device>,
    Path(uuid): Path<String>,
    Query(ask): Query<Ask>,
    request: Request,
) -> Response {
    if let Err(no) = owner_only(&device, request.headers()) {
        return no;
    }
    let layout = Layout::named(&ask.keyboard).unwrap_or_default();
    let asks = request
        .headers()
        .get(header::UPGRADE)
        .and_then(|h| h.to_str().ok());
    if asks != Some("rfb") {
        return refused(
            StatusCode::UPGRADE_REQUIRED,
            "upgrade",
            "Ask with Upgrade: rfb.",
        );
    }
    let (world, host) = (device.world.clone(), device.name.clone());
    let name = {
        let state = world.lock();
        let volumes = state.volumes.values();
        let on = state
            .hosts
            .get(&host)
            .is_some_and(|h| h.guests.contains_key(&uuid));
        volumes
            .filter(|_| on)
            .find_map(|v| v.records.get(&uuid))
            .map(|r| r.name.clone())
    };
    let Some(name) = name else {
        return refused(StatusCode::CONFLICT, "off", "The machine is not on here.");
    };
    tokio::spawn(async move {
        let Ok(stream) = hyper::upgrade::on(request).await else {
            return;
        };
        let mut last: Option<Shown> = None;
        let look = |first: bool| {
            if !world.is_on(&host) {
                return None;
            }
            let now = shown(&world.lock(), &host, &uuid, world.now())?;
            if !first && last.as_ref() == Some(&now) {
                return Some(None);
            }
            let picture = now.paint();
            last = Some(now);
            Some(Some(picture))
        };
        let ended = screen::serve(TokioIo::new(stream), &name, look, |what| {
            told(&world, &host, &uuid, layout, what);
        });
        if let Err(error) = ended.await {
            tracing::debug!(%error, "a screen was closed");
        }
    });
    let head = [(header::CONNECTION, "upgrade"), (header::UPGRADE, "rfb")];
    (StatusCode::SWITCHING_PROTOCOLS, head, Body::empty()).into_response()
}

#[derive(Deserialize)]
pub(crate) struct Which {
    /// The number of a kept picture; none: what is shown now.
    kept: Option<i64>,
}

pub(crate) async fn picture(
    Extract(device): Extract<Device>,
    Path(uuid): Path<String>,
    Query(which): Query<Which>,
    headers: HeaderMap,
) -> Response {
    if let Err(no) = owner_only(&device, &headers) {
        return no;
    }
    let now = device.world.now();
    let bytes = {
        let state = device.world.lock();
        match which.kept {
            None => shown(&state, &device.name, &uuid, now).map(|s| screen::png(&s.paint())),
            Some(number) => {
                let kept = state
                    .hosts
                    .get(&device.name)
                    .and_then(|h| h.kept.get(&uuid));
                kept.filter(|k| k.number == number).map(|k| k.png.clone())
            }
        }
    };
    match bytes {
        Some(bytes) => ([(header::CONTENT_TYPE, "image/png")], bytes).into_response(),
        None => refused(
            StatusCode::NOT_FOUND,
            "picture",
            "There is no such picture.",
        ),
    }
}
