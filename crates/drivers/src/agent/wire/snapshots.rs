//! Snapshots and layers as an agent tells of them.

use super::limited;
use base64::{Engine, prelude::BASE64_STANDARD};
use roaring::RoaringBitmap;
use serde::Deserialize;
use uuid::Uuid;
use zastrugi_core::{
    estate::{Consistent, Snapshot, Snapshots},
    layers::{Chain, GRAIN, Layer},
    limits,
    moment::{Moment, Span},
    observe::figure,
    units::{Bytes, Rate},
};

/// More of one machine are not listened to.
const MOST: usize = 512;

#[derive(Debug, Deserialize)]
pub(crate) struct WireSnapshot {
    id: Uuid,
    name: String,
    #[serde(default)]
    note: String,
    #[serde(default)]
    taken_ms: i64,
    #[serde(default)]
    parent: Option<Uuid>,
    #[serde(default)]
    quiet: bool,
    #[serde(default)]
    off: bool,
    /// Bytes.
    #[serde(default)]
    memory: Option<u64>,
    /// How many of the machine's disks it holds.
    #[serde(default)]
    disks: Option<usize>,
}

fn consistent(quiet: bool, off: bool, memory: bool) -> Consistent {
    match (memory, off, quiet) {
        (true, _, _) => Consistent::Memory,
        (false, true, _) => Consistent::Off,
        (false, false, true) => Consistent::Quiet,
        (false, false, false) => Consistent::Crash,
    }
}

fn room(memory: Option<u64>) -> Option<Bytes> {
    memory.map(|m| Bytes(figure(m, &limits::FIGURE_MEMORY)))
}

/// Oldest first, as they are kept.
pub(crate) fn all(said: Vec<WireSnapshot>, rests_on: Option<Uuid>) -> Snapshots {
    let read = |s: WireSnapshot| Snapshot {
        uuid: s.id,
        name: limited(s.name),
        note: s.note.chars().take(limits::NOTE.most).collect(),
        taken: Moment(s.taken_ms),
        parent: s.parent,
        consistent: consistent(s.quiet, s.off, s.memory.is_some()),
        memory: room(s.memory),
        disks: s.disks.map(|n| n.min(limits::DISKS.most)),
        ends: None,
    };
    let mut all: Vec<Snapshot> = said.into_iter().take(MOST).map(read).collect();
    all.sort_by_key(|s| s.taken);
    Snapshots { all, rests_on }
}

/// What came of taking one.
#[derive(Debug, Deserialize)]
pub(crate) struct WireTaken {
    /// `running`, `done` or `failed`.
    pub(crate) stage: String,
    #[serde(default)]
    pub(crate) why: String,
    /// `guest`: its file systems could not stand still.
    #[serde(default)]
    pub(crate) code: String,
    #[serde(default)]
    copied: u64,
    #[serde(default)]
    left: u64,
    #[serde(default)]
    rate: u64,
    #[serde(default)]
    quiet: bool,
    #[serde(default)]
    off: bool,
    #[serde(default)]
    memory: Option<u64>,
    #[serde(default)]
    taken_ms: i64,
    #[serde(default)]
    stood_still_ms: u64,
}

impl WireTaken {
    pub(crate) fn said(&self) -> String {
        progress(self.copied, self.left, self.rate)
    }
    pub(crate) fn still(&self) -> Span {
        Span(self.stood_still_ms)
    }
    pub(crate) fn snapshot(
        &self,
        (uuid, name, note): (Uuid, &str, &str),
        ends: Option<Moment>,
        parent: Option<Uuid>,
        disks: usize,
    ) -> Snapshot {
        Snapshot {
            uuid,
            name: name.to_owned(),
            note: note.to_owned(),
            taken: Moment(self.taken_ms),
            parent,
            consistent: consistent(self.quiet, self.off, self.memory.is_some()),
            memory: room(self.memory),
            disks: Some(disks),
            ends,
        }
    }
}

fn progress(copied: u64, left: u64, rate: u64) -> String {
    let (copied, left, rate) = (Bytes(copied), Bytes(left), Rate(rate));
    format!("{copied} copied at {rate}, {left} to go")
}

/// How far a fold is.
#[derive(Debug, Deserialize)]
pub(crate) struct WireFold {
    pub(crate) stage: String,
    #[serde(default)]
    pub(crate) why: String,
    copied: u64,
    left: u64,
    rate: u64,
    took_ms: u64,
    stood_still_ms: u64,
}

impl WireFold {
    pub(crate) fn said(&self) -> String {
        progress(self.copied, self.left, self.rate)
    }
    /// Copied, how long it took, and how long the machine stood still.
    pub(crate) fn measured(&self) -> (Bytes, Span, Span) {
        let copied = Bytes(figure(self.copied, &limits::FIGURE_DISK));
        (copied, Span(self.took_ms), Span(self.stood_still_ms))
    }
}

#[derive(Debug, Deserialize)]
pub(crate) struct WireLayers {
    grain: u64,
    current: u64,
    layers: Vec<WireLayer>,
}

#[derive(Debug, Deserialize)]
struct WireLayer {
    layer: u64,
    #[serde(default)]
    parent: Option<u64>,
    #[serde(default)]
    snapshot: Option<Uuid>,
    /// Of each disk, the serialised form of a roaring bitmap in base64, in pieces that nobody cuts.
    disks: Vec<Vec<String>>,
}

/// The serialised form of a roaring bitmap in base64, in pieces that nobody cuts.
///
/// # Errors
/// What is wrong with it, in words.
pub(crate) fn bitmap(pieces: &[String]) -> Result<RoaringBitmap, String> {
    let bytes = BASE64_STANDARD.decode(pieces.concat());
    let bytes = bytes.map_err(|_| "a bitmap is no base64".to_owned())?;
    let read = RoaringBitmap::deserialize_from(bytes.as_slice());
    read.map_err(|e| format!("a bitmap can't be read: {e}"))
}

impl WireLayers {
    /// # Errors
    /// What is wrong with them, in words.
    pub(crate) fn read(self) -> Result<Chain, String> {
        if self.grain != GRAIN.0 {
            return Err(format!("its blocks have {} bytes, not {GRAIN}", self.grain));
        }
        let layer = |l: WireLayer| {
            let disks = l.disks.iter().take(limits::DISKS.most).map(|d| bitmap(d));
            let read = Layer {
                parent: l.parent,
                snapshot: l.snapshot,
                disks: disks.collect::<Result<_, _>>()?,
            };
            Ok((l.layer, read))
        };
        let layers = self.layers.into_iter().take(MOST).map(layer);
        Ok(Chain {
            layers: layers.collect::<Result<_, String>>()?,
            current: self.current,
        })
    }
}

/// Whether file systems stand still.
#[derive(Debug, Deserialize)]
pub(crate) struct WireStill {
    /// `still` or `failed`.
    pub(crate) stage: String,
    #[serde(default)]
    pub(crate) why: String,
}

/// Whether they stood still until they were told to go on.
#[derive(Debug, Deserialize)]
pub(crate) struct WireHeld {
    pub(crate) held: bool,
}
