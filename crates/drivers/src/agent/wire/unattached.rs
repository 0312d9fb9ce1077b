//! Disks on a volume that no machine has, and what a change of disks or cards came to.

use super::{Machine, figure, limited};
use serde::Deserialize;
use std::collections::BTreeMap;
use uuid::Uuid;
use zastrugi_core::{
    estate::{Provisioning, SpareDisk, Unattached},
    limits,
    moment::Moment,
    units::Bytes,
};

/// A volume has at most so many of them, as far as we read.
const MOST: usize = 4096;

#[derive(Debug, Deserialize)]
pub(crate) struct WireUnattached {
    seq: u64,
    disks: BTreeMap<Uuid, WireSpare>,
}

#[derive(Debug, Deserialize)]
struct WireSpare {
    size: u64,
    thick: bool,
    #[serde(default)]
    takes: u64,
    #[serde(default)]
    had: String,
    #[serde(default)]
    since_ms: i64,
    #[serde(default)]
    deleted_ms: Option<i64>,
}

impl WireUnattached {
    pub(crate) fn read(self) -> Unattached {
        let bytes = |said: u64| Bytes(figure(said, &limits::FIGURE_DISK));
        let spare = |(key, s): (Uuid, WireSpare)| {
            let disk = SpareDisk {
                size: bytes(s.size),
                provisioning: if s.thick {
                    Provisioning::Thick
                } else {
                    Provisioning::Thin
                },
                takes: bytes(s.takes),
                had: limited(s.had),
                since: Moment(s.since_ms),
                deleted: s.deleted_ms.map(Moment),
            };
            (key, disk)
        };
        Unattached {
            seq: figure(self.seq, &limits::FIGURE_COUNT),
            disks: self.disks.into_iter().take(MOST).map(spare).collect(),
        }
    }
}

/// What a change of disks or cards came to.
#[derive(Debug, Deserialize)]
pub(crate) struct Changed {
    #[serde(default)]
    pub(crate) machine: Option<Machine>,
    #[serde(default)]
    pub(crate) unattached: Option<WireUnattached>,
    #[serde(default)]
    pub(crate) shared: Option<super::WireShared>,
}
