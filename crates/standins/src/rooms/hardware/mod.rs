//! Disks and cards of machines, and the disks of a volume that no machine has.

pub(crate) mod calls;
pub(crate) mod unattached;

use crate::{rooms::snapshots::blocks, world::World};

impl World {
    /// Bytes that are taken or held on a volume, by its name.
    pub fn used(&self, volume: &str) -> u64 {
        let state = self.lock();
        let mut all = state.volumes.values();
        all.find(|v| v.name == volume).map_or(0, |v| v.used())
    }

    /// What the unattached disk that this machine had holds: equal words, equal bytes.
    pub fn unattached(&self, had: &str) -> Option<String> {
        let state = self.lock();
        let mut all = state
            .volumes
            .values()
            .flat_map(|v| v.unattached.disks.values());
        all.find(|d| d.had == had)
            .map(|d| blocks::words(&d.content))
    }

    /// The networks that this machine's cards are on; an empty name for none.
    pub fn cards(&self, machine: &str) -> Vec<String> {
        let state = self.lock();
        let mut records = state.volumes.values().flat_map(|v| v.records.values());
        let found = records.find(|r| r.name == machine);
        let named =
            |nic: &crate::rooms::networks::network::Nic| nic.network.clone().unwrap_or_default();
        found.map_or_else(Vec::new, |r| r.nics.iter().map(named).collect())
    }
}
