//! The hosts' own disks, and volumes made of them.

use super::{figure, limited};
use serde::Deserialize;
use std::collections::BTreeMap;
use zastrugi_core::{
    estate::{DiskState, LocalDisk, PoolHealth, Share},
    evidence::SeenPool,
    limits,
    moment::Span,
    units::Bytes,
};

/// A host has at most so many disks, and a volume so many hosts, as far as we read.
const MANY: usize = 64;

#[derive(Debug, Deserialize)]
pub(crate) struct WireDisk {
    name: String,
    size: u64,
    #[serde(default)]
    holds: Option<String>,
    #[serde(default)]
    lent: Option<String>,
    #[serde(default)]
    dead: bool,
}

fn bytes(said: u64) -> Bytes {
    Bytes(figure(said, &limits::FIGURE_DISK))
}

pub(crate) fn disks(said: Vec<WireDisk>) -> Vec<LocalDisk> {
    let read = |d: WireDisk| LocalDisk {
        name: limited(d.name),
        size: bytes(d.size),
        state: match (d.dead, d.lent, d.holds) {
            (true, _, _) => DiskState::Dead,
            (false, Some(uid), _) => DiskState::Lent(limited(uid)),
            (false, None, Some(what)) => DiskState::Holds(limited(what)),
            (false, None, None) => DiskState::Free,
        },
    };
    said.into_iter().take(MANY).map(read).collect()
}

#[derive(Debug, Deserialize)]
pub(crate) struct WirePool {
    seq: u64,
    copies: u8,
    wait_s: u32,
    lacking: u64,
    lost: u64,
    moving: u64,
    members: Vec<WireMember>,
}

#[derive(Debug, Deserialize)]
struct WireMember {
    serial: String,
    domain: String,
    raw: u64,
    held: u64,
    #[serde(default)]
    away_ms: Option<i64>,
    #[serde(default)]
    leaving: bool,
}

impl WirePool {
    /// What a host still holds of it; none where it takes no part.
    pub(crate) fn held_by(&self, serial: &str) -> Option<Bytes> {
        self.members
            .iter()
            .find(|m| m.serial == serial)
            .map(|m| bytes(m.held))
    }

    pub(crate) fn read(self) -> SeenPool {
        let share = |m: WireMember| {
            let share = Share {
                domain: limited(m.domain),
                raw: bytes(m.raw),
                held: bytes(m.held),
                away: m.away_ms.is_some(),
                leaving: m.leaving,
            };
            (limited(m.serial), share)
        };
        SeenPool {
            copies: self.copies.clamp(1, 9),
            wait: Span::secs(u64::from(self.wait_s)),
            members: self
                .members
                .into_iter()
                .take(MANY)
                .map(share)
                .collect::<BTreeMap<_, _>>(),
            health: PoolHealth {
                seq: self.seq,
                lacking: bytes(self.lacking),
                lost: bytes(self.lost),
                moving: bytes(self.moving),
            },
        }
    }
}
