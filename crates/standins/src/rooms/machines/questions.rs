//! What a host's agent asks inside a guest for whoever wants to know whether it is well: does something listen, what does a page
//! say, how does a command end. And a disk from which nothing boots any more.

use crate::{
    agent::{owner_only, refused},
    fault::Device,
    rooms::{
        packages::grains::{KEPT, LENGTH},
        snapshots::{blocks::Written, chain::Chain, seed},
    },
    world::World,
};
use axum::{
    Json,
    extract::{Path, State as Extract},
    http::{HeaderMap, StatusCode},
    response::{IntoResponse, Response},
};
use roaring::RoaringBitmap;
use serde::Deserialize;
use serde_json::{Value, json};
use sha2::{Digest, Sha256};
use std::{collections::BTreeMap, sync::LazyLock};

/// A simulated guest listens here, whatever it is for: secure shell, and pages.
const LISTENS: [u16; 2] = [22, PAGES];
const PAGES: u16 = 80;

#[derive(Deserialize)]
#[serde(tag = "kind", rename_all = "lowercase")]
pub(crate) enum Question {
    Tcp { port: u16 },
    Http { port: u16, path: String },
    Run { command: String },
}

fn answer(question: &Question, name: &str, up: i64) -> Value {
    let closed = |port: u16| json!({"why": format!("nothing listens on port {port}")});
    match question {
        Question::Tcp { port } if LISTENS.contains(port) => json!({"open": true}),
        Question::Http { port, path } if *port == PAGES => {
            let (status, text) = crate::rooms::fronts::page(name, path);
            json!({"status": status, "text": text})
        }
        Question::Tcp { port } | Question::Http { port, .. } => closed(*port),
        Question::Run { command } => {
            let mut words = command.split_whitespace();
            let (first, second) = (words.next().unwrap_or_default(), words.next());
            let (exit, said) = match (first, second) {
                ("true", _) => (0, String::new()),
                ("false", _) => (1, String::new()),
                ("hostname", _) => (0, name.to_owned()),
                ("uptime", _) => (0, format!("up {} s", up / 1000)),
                ("service", Some(of @ ("agent" | "shell" | "time" | "names"))) => {
                    (0, format!("{of} runs"))
                }
                ("service", of) => (3, format!("there is no service {}", of.unwrap_or_default())),
                (other, _) => (127, format!("{other}: not found")),
            };
            json!({"exit": exit, "said": said})
        }
    }
}

/// Asks inside a guest that is up; nothing of it is changed.
pub(crate) async fn ask(
    Extract(device): Extract<Device>,
    Path(uuid): Path<String>,
    headers: HeaderMap,
    Json(body): Json<Value>,
) -> Response {
    if let Err(no) = owner_only(&device, &headers) {
        return no;
    }
    let Ok(question) = serde_json::from_value::<Question>(body) else {
        let words = "A question has a kind: tcp, http or run, with what belongs to it.";
        return refused(StatusCode::BAD_REQUEST, "question", words);
    };
    let now = device.world.now();
    let state = device.world.lock();
    let guest = state
        .hosts
        .get(&device.name)
        .and_then(|h| h.guests.get(&uuid));
    let Some(guest) = guest else {
        return refused(StatusCode::CONFLICT, "off", "The machine is not on here.");
    };
    let record = state
        .volumes
        .get(&guest.volume)
        .and_then(|v| v.records.get(&uuid));
    let silent = guest.hung.is_some() || guest.mute.is_some();
    let up = |temper| guest.phase(now, temper) == "up";
    match record.filter(|r| !silent && r.temper.agent && up(r.temper)) {
        Some(record) => Json(answer(&question, &record.name, now - guest.started)).into_response(),
        None => refused(StatusCode::CONFLICT, "guest", "Its agent does not answer."),
    }
}

/// What stands where a loader should be.
static NOTHING: LazyLock<Vec<u8>> = LazyLock::new(|| {
    let words = b"nothing boots from here\n";
    words.iter().copied().cycle().take(LENGTH).collect()
});

/// Its number, as that of anything that came from outside.
static SPOILT: LazyLock<u64> = LazyLock::new(|| {
    let digest = Sha256::digest(&*NOTHING);
    let mut eight = [0; 8];
    eight.copy_from_slice(&digest[..8]);
    u64::from_be_bytes(eight) | KEPT
});

/// Whether a machine's first disk has no loader.
pub(crate) fn spoilt(chain: Option<&Chain>) -> bool {
    chain.is_some_and(|c| c.first_block() == Some(*SPOILT))
}

impl World {
    /// The loader on the first disk of this machine is written over, or is there again. Whoever runs goes on; the next boot tells.
    pub fn spoil(&self, machine: &str, spoilt: bool) -> bool {
        let number = match spoilt {
            true => match self.grains.number(0, &NOTHING) {
                Ok(Some(number)) => number,
                Ok(None) | Err(_) => return false,
            },
            false => 0,
        };
        let now = self.now();
        let mut state = self.lock();
        let found = state.volumes.values().find_map(|v| {
            let named = v.records.iter().find(|(_, r)| r.name == machine)?;
            Some((named.0.clone(), v.uid.clone()))
        });
        let Some((uuid, uid)) = found else {
            return false;
        };
        let record = state
            .volumes
            .get_mut(&uid)
            .and_then(|v| v.records.get_mut(&uuid));
        let Some(record) = record.filter(|r| !r.disks.is_empty()) else {
            return false;
        };
        let disk = record.disks[0];
        let alone = || Box::new(Chain::of(&record.disks, seed(&uuid), now));
        let mut chain = record.chain.take().unwrap_or_else(alone);
        let now = chain
            .seen_from(chain.current)
            .into_iter()
            .next()
            .unwrap_or_default();
        let first: RoaringBitmap = std::iter::once(0).collect();
        let mut found: BTreeMap<u64, RoaringBitmap> =
            now.writings().map(|(n, b)| (n, b - &first)).collect();
        found.insert(
            number,
            found.get(&number).cloned().unwrap_or_default() | &first,
        );
        chain.lay_over(0, Written::of(found), &disk);
        record.chain = Some(chain);
        self.save_volume(&state, &uid);
        true
    }
}
