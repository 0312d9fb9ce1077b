//! Disks that several machines have: how each has them, and what became of them on their volume.

use super::{figure, limited};
use serde::Deserialize;
use std::collections::BTreeMap;
use uuid::Uuid;
use zastrugi_core::{
    estate::{Holder, Mode, Provisioning, SharedDisk, SharedDisks, Slot, TakeOver},
    limits,
    moment::Moment,
    observe::ShareReport,
    units::Bytes,
};

/// A volume has at most so many of them, as far as we read; a disk so many machines and take-overs.
const MOST: usize = 1024;
const FEW: usize = 64;

#[derive(Debug, Deserialize)]
pub(crate) struct WireShare {
    disk: Uuid,
    volume: String,
    controller: u8,
    unit: u8,
    mode: String,
}

impl WireShare {
    pub(super) fn read(self) -> ShareReport {
        ShareReport {
            disk: self.disk,
            volume: limited(self.volume),
            slot: Slot {
                controller: self.controller,
                unit: self.unit,
            },
            // What is called otherwise guards nothing that we know of.
            mode: match self.mode.as_str() {
                "reservations" => Mode::Reservations,
                _ => Mode::Unguarded,
            },
        }
    }
}

#[derive(Debug, Deserialize)]
pub(crate) struct WireShared {
    seq: u64,
    disks: BTreeMap<Uuid, WireSharedDisk>,
}

#[derive(Debug, Deserialize)]
struct WireSharedDisk {
    name: String,
    size: u64,
    thick: bool,
    #[serde(default)]
    takes: u64,
    controller: u8,
    unit: u8,
    #[serde(default)]
    registered: BTreeMap<Uuid, i64>,
    #[serde(default)]
    holder: Option<WireHolder>,
    #[serde(default)]
    takeovers: Vec<WireTakeOver>,
}

#[derive(Debug, Deserialize)]
struct WireHolder {
    machine: Uuid,
    since_ms: i64,
}

#[derive(Debug, Deserialize)]
struct WireTakeOver {
    from: Uuid,
    to: Uuid,
    last_ms: i64,
    first_ms: i64,
}

impl WireSharedDisk {
    fn read(self) -> SharedDisk {
        let bytes = |said: u64| Bytes(figure(said, &limits::FIGURE_DISK));
        let over = self.takeovers.len().saturating_sub(FEW);
        SharedDisk {
            name: limited(self.name),
            size: bytes(self.size),
            provisioning: if self.thick {
                Provisioning::Thick
            } else {
                Provisioning::Thin
            },
            takes: bytes(self.takes),
            slot: Slot {
                controller: self.controller,
                unit: self.unit,
            },
            registered: self
                .registered
                .into_iter()
                .take(FEW)
                .map(|(machine, since)| (machine, Moment(since)))
                .collect(),
            holder: self.holder.map(|h| Holder {
                machine: h.machine,
                since: Moment(h.since_ms),
            }),
            takeovers: self
                .takeovers
                .into_iter()
                .skip(over)
                .map(|t| TakeOver {
                    from: t.from,
                    to: t.to,
                    last: Moment(t.last_ms),
                    first: Moment(t.first_ms),
                })
                .collect(),
        }
    }
}

impl WireShared {
    pub(crate) fn read(self) -> SharedDisks {
        let disks = self.disks.into_iter().take(MOST);
        SharedDisks {
            seq: figure(self.seq, &limits::FIGURE_COUNT),
            disks: disks.map(|(key, d)| (key, d.read())).collect(),
        }
    }
}
