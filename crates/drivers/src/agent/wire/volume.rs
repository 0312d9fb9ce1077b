//! Volumes as a host tells of them, and its paths to them.

use super::{WirePool, WireShared, WireUnattached, limited};
use serde::Deserialize;
use std::collections::BTreeMap;
use zastrugi_core::{estate::Path, evidence::SeenVolume, units::Bytes};

#[derive(Debug, Deserialize)]
pub(super) struct WireVolume {
    pub(super) uid: String,
    name: String,
    capacity: u64,
    used: u64,
    #[serde(default)]
    paths: Vec<WirePath>,
    #[serde(default)]
    pool: Option<WirePool>,
    #[serde(default)]
    unattached: Option<WireUnattached>,
    #[serde(default)]
    shared: Option<WireShared>,
    #[serde(default)]
    records: Option<String>,
    #[serde(default)]
    pub(super) leases: Option<BTreeMap<String, u64>>,
    #[serde(default)]
    pub(super) lease_words: Option<BTreeMap<String, WireWord>>,
}

/// What a host wrote beside its lease.
#[derive(Debug, Clone, Copy, Default, Deserialize)]
#[serde(default)]
pub(super) struct WireWord {
    pub(super) unlinked: bool,
    pub(super) ended: u64,
}

#[derive(Debug, Deserialize)]
pub(crate) struct WirePath {
    portal: String,
    uplink: String,
    up: bool,
}

impl WirePath {
    pub(crate) fn read(self) -> Path {
        Path {
            portal: limited(self.portal),
            uplink: limited(self.uplink),
            up: self.up,
        }
    }
}

impl WireVolume {
    pub(super) fn read(self) -> SeenVolume {
        SeenVolume {
            uid: limited(self.uid),
            name: limited(self.name),
            capacity: Bytes(self.capacity),
            used: Bytes(self.used),
            paths: self
                .paths
                .into_iter()
                .take(64)
                .map(WirePath::read)
                .collect(),
            pool: self.pool.map(WirePool::read),
            unattached: self.unattached.map(|all| Box::new(all.read())),
            shared: self.shared.map(|all| Box::new(all.read())),
            records: self.records.map(limited),
        }
    }
}
