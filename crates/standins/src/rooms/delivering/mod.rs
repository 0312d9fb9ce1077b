//! Disks that a mover brings onto a volume, piece by piece. Nothing has them until they are put in place, all at once; until then
//! whoever brings them can be cut off and go on.

pub(crate) mod calls;
pub(crate) mod following;

use super::snapshots::blocks::{Blocks, GRAIN, Written};
use crate::world::World;
use roaring::RoaringBitmap;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use uuid::Uuid;

/// One that nobody brought anything to for so long goes, in milliseconds.
const FORGOTTEN: i64 = 3 * 24 * 3_600_000;

#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub(crate) struct Delivery {
    pub(crate) disks: Vec<Arriving>,
    /// Room that is held for it.
    bytes: u64,
    /// Milliseconds since 1970.
    touched: i64,
}

#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub(crate) struct Arriving {
    pub(crate) key: Uuid,
    pub(crate) size: u64,
    pub(crate) content: Written,
    /// Blocks that were brought, whatever they hold.
    confirmed: Blocks,
}

/// On one volume, by their numbers.
pub(crate) type Deliveries = BTreeMap<String, Delivery>;

impl Delivery {
    /// What it takes: room is held from its beginning.
    pub(crate) fn takes(&self) -> u64 {
        let content: u64 = self.disks.iter().map(|d| d.content.len() * GRAIN).sum();
        content.max(self.bytes)
    }
}

impl Delivery {
    pub(super) fn disk(&self, key: &Uuid) -> Option<&Arriving> {
        self.disks.iter().find(|d| d.key == *key)
    }
    /// It has this disk, which is no larger than that.
    fn fits(&self, key: &Uuid, size: u64) -> bool {
        self.disk(key).is_some_and(|d| d.size <= size)
    }
}

impl Arriving {
    pub(super) fn confirmed(&self) -> &RoaringBitmap {
        &self.confirmed.0
    }
    /// So many blocks from the first on were brought; each that holds something by its number.
    fn brought(&mut self, first: u32, blocks: u32, found: BTreeMap<u64, RoaringBitmap>) {
        let all: RoaringBitmap = (first..first.saturating_add(blocks)).collect();
        // Brought again, it is as it was brought last.
        self.content.take_away(&all);
        for (number, at) in &found {
            self.content.put(*number, at);
        }
        self.confirmed.0 |= all;
    }
}

fn sweep(all: &mut Deliveries, now: i64) {
    all.retain(|_, d| now - d.touched < FORGOTTEN);
}

impl World {
    /// What is beneath a volume is full, so that it takes nothing more that is brought; or it has room again.
    pub fn stuff(&self, volume: &str, full: bool) {
        let mut state = self.lock();
        let found = state.volumes.values_mut().find(|v| v.name == volume);
        if let Some(volume) = found {
            volume.stuffed = full;
        }
    }
    /// Deliveries that lie on volumes and are nobody's yet.
    pub fn deliveries(&self) -> usize {
        let state = self.lock();
        state.volumes.values().map(|v| v.deliveries.len()).sum()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(number: u64, blocks: &[u32]) -> BTreeMap<u64, RoaringBitmap> {
        BTreeMap::from([(number, blocks.iter().copied().collect())])
    }

    /// If this fails, a piece that is brought twice leaves what it held the first time.
    #[test]
    fn what_is_brought_again_is_as_it_was_brought_last() {
        let mut disk = Arriving::default();
        disk.brought(0, 4, at(7, &[0, 1, 3]));
        disk.brought(0, 4, at(9, &[2]));
        disk.brought(8, 2, BTreeMap::new());
        assert_eq!(disk.content.within(0..100), [(2, 9)]);
        let confirmed: Vec<u32> = disk.confirmed.0.iter().collect();
        assert_eq!(confirmed, [0, 1, 2, 3, 8, 9]);
    }
}
