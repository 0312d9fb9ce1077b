//! What an agent measures, and how far it is with what takes long.

use serde::Deserialize;
use std::collections::BTreeMap;
use uuid::Uuid;
use zastrugi_core::{
    estate::{Measured, Moved, RoundSeen},
    guard::Pulse,
    limits,
    loads::{DiskUse, MachineLoad, Writes},
    moment::Span,
    observe::figure,
    units::{Bytes, Mhz, Rate},
};

#[derive(Debug, Default, Deserialize)]
pub(crate) struct Load {
    pub(crate) cpu_mhz: u64,
    pub(crate) active: u64,
    #[serde(default)]
    pub(crate) machines: BTreeMap<Uuid, WireLoad>,
}

#[derive(Debug, Deserialize)]
pub(crate) struct WireLoad {
    cpu_mhz: u64,
    active: u64,
    #[serde(default)]
    writes: Option<WireWrites>,
    #[serde(default)]
    disks: Option<WireDisks>,
    /// Heartbeats of its agent, and operations of its disks and cards, since its start.
    #[serde(default)]
    beats: Option<u64>,
    #[serde(default)]
    moved: Option<u64>,
    /// Since its start.
    #[serde(default)]
    pub(crate) up_ms: Option<u64>,
}

#[derive(Debug, Deserialize)]
struct WireDisks {
    used: u64,
    writes: u64,
}

#[derive(Debug, Deserialize)]
struct WireWrites {
    dirty: u64,
    touched: u64,
    working_set: u64,
}

impl WireLoad {
    /// Signs of life, where the host tells of them.
    pub(crate) fn pulse(&self) -> Option<Pulse> {
        Some(Pulse {
            beats: self.beats?,
            moved: self.moved?,
        })
    }
    pub(crate) fn read(self) -> MachineLoad {
        MachineLoad {
            cpu: Mhz(figure(self.cpu_mhz, &limits::FIGURE_RATE)),
            active: Bytes(figure(self.active, &limits::FIGURE_MEMORY)),
            writes: self.writes.map(|w| Writes {
                dirty: Rate(figure(w.dirty, &limits::FIGURE_MEMORY)),
                touched: Bytes(figure(w.touched, &limits::FIGURE_MEMORY)),
                working_set: Bytes(figure(w.working_set, &limits::FIGURE_MEMORY)),
            }),
            disk: self.disks.map(|d| DiskUse {
                used: Bytes(figure(d.used, &limits::FIGURE_DISK)),
                writes: Rate(figure(d.writes, &limits::FIGURE_DISK)),
            }),
        }
    }
}

/// How far a copy of disks is.
#[derive(Debug, Deserialize)]
pub(crate) struct WireCopy {
    /// `running`, `done` or `failed`.
    pub(crate) stage: String,
    #[serde(default)]
    pub(crate) why: String,
    pub(crate) to: String,
    copied: u64,
    left: u64,
    rate: u64,
}

impl WireCopy {
    pub(crate) fn said(&self) -> String {
        let (copied, left, rate) = (Bytes(self.copied), Bytes(self.left), Rate(self.rate));
        format!("{copied} copied at {rate}, {left} to go")
    }
}

/// A migration as its source tells it.
#[derive(Debug, Deserialize)]
pub(crate) struct WireMove {
    pub(crate) stage: String,
    #[serde(default)]
    pub(crate) why: String,
    pub(crate) generation: u64,
    round: u32,
    sent: u64,
    of: u64,
    slowed: u32,
    rounds: Vec<WireRound>,
    total: u64,
    took_ms: u64,
    stood_still_ms: u64,
}

#[derive(Debug, Deserialize)]
struct WireRound {
    bytes: u64,
    ms: u64,
}

impl WireMove {
    /// How far it is, in words.
    pub(crate) fn said(&self) -> String {
        let slowed = match self.slowed {
            0 => String::new(),
            n => format!(", slowed by {n} %"),
        };
        let (sent, of) = (Bytes(self.sent), Bytes(self.of));
        format!("round {}: {sent} of {of}{slowed}", self.round)
    }
    pub(crate) fn measured(&self) -> Measured {
        let rounds = self.rounds.iter().take(Moved::MOST_ROUNDS);
        Measured {
            rounds: rounds
                .map(|r| RoundSeen {
                    bytes: Bytes(r.bytes),
                    took: Span(r.ms),
                })
                .collect(),
            total: Bytes(self.total),
            took: Span(self.took_ms),
            stood_still: Span(self.stood_still_ms),
            slowed: self.slowed.min(100),
        }
    }
}
