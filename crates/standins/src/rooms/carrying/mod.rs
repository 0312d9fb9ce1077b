//! What movers ask of a host: a mark on a snapshot, what changed since an earlier one, and the bytes of its disks.

pub(crate) mod calls;

use super::snapshots::{blocks::Written, chain::Chain, seed};
use crate::world::World;
use roaring::RoaringBitmap;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use uuid::Uuid;

/// So many marks of a machine are kept: whoever is copied to more places than that is compared.
const KEPT: usize = 8;
/// Bytes of a block.
const BLOCK: u64 = 64 << 10;

/// What stood where when a snapshot was taken, by the keys of the disks: what changed since is told from it, also when the snapshot
/// is gone.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub(crate) struct Mark {
    /// Milliseconds since 1970.
    pub(crate) set: i64,
    pub(crate) disks: BTreeMap<Uuid, Written>,
}

/// By the identity of the snapshot.
pub(crate) type Marks = BTreeMap<String, Mark>;

pub(crate) fn keep(marks: &mut Marks, id: &str, mark: Mark) {
    marks.insert(id.to_owned(), mark);
    while marks.len() > KEPT {
        let oldest = marks
            .iter()
            .min_by_key(|(_, m)| m.set)
            .map(|(id, _)| id.clone());
        oldest.map(|id| marks.remove(&id));
    }
}

/// Blocks that hold something else than they did, or nothing where they held something.
pub(crate) fn changed(then: &Written, now: &Written) -> RoaringBitmap {
    let of = |all: &Written| {
        all.writings()
            .map(|(n, blocks)| (n, blocks.clone()))
            .collect::<BTreeMap<_, _>>()
    };
    let (then, now) = (of(then), of(now));
    let none = RoaringBitmap::new();
    let mut changed = RoaringBitmap::new();
    for writing in then.keys().chain(now.keys()) {
        let (a, b) = (
            then.get(writing).unwrap_or(&none),
            now.get(writing).unwrap_or(&none),
        );
        changed |= a ^ b;
    }
    changed
}

impl World {
    /// All bytes of a disk of this machine, counted from zero, as it is now.
    pub fn read_disk(&self, machine: &str, disk: usize) -> Option<Vec<u8>> {
        let (size, content) = self.seen(machine, disk)?;
        let all = content.within(0..u32::MAX);
        self.grains.extent(&all, 0, size).ok()
    }

    /// Blocks of 64 KiB of a disk that hold something, as it is now; none: there is no such disk.
    pub fn blocks(&self, machine: &str, disk: usize) -> Option<Vec<u32>> {
        let content = self.seen(machine, disk)?.1;
        let mut all: Vec<u32> = content
            .within(0..u32::MAX)
            .into_iter()
            .map(|(block, _)| block)
            .collect();
        all.sort_unstable();
        all.dedup();
        Some(all)
    }

    /// What stands on a part of it.
    pub fn read_extent(&self, machine: &str, disk: usize, at: u64, length: u64) -> Option<Vec<u8>> {
        let content = self.seen(machine, disk)?.1;
        let block = |at: u64| u32::try_from(at / BLOCK).unwrap_or(u32::MAX);
        let part = content.within(block(at)..block(at + length + BLOCK - 1));
        self.grains.extent(&part, block(at), length).ok()
    }

    /// Its size, and what its guest sees on it.
    fn seen(&self, machine: &str, disk: usize) -> Option<(u64, Written)> {
        let now = self.now();
        let state = self.lock();
        let mut records = state.volumes.values().flat_map(|v| &v.records);
        let (uuid, record) = records.find(|(_, r)| r.name == machine)?;
        let size = record.disks.get(disk)?.size;
        let fresh = || Box::new(Chain::of(&record.disks, seed(uuid), now));
        let chain = record.chain.clone().unwrap_or_else(fresh);
        let mut seen = chain.seen_from(chain.current);
        (disk < seen.len()).then(|| (size, seen.swap_remove(disk)))
    }

    /// From how many states it can be told what changed on this machine.
    pub fn marks(&self, machine: &str) -> usize {
        let state = self.lock();
        let mut records = state.volumes.values().flat_map(|v| v.records.values());
        let record = records.find(|r| r.name == machine);
        let chain = record.and_then(|r| r.chain.as_ref());
        chain.map_or(0, |c| c.marks.len())
    }

    /// Nobody can say any more what changed on the disks of this machine.
    pub fn lose_marks(&self, machine: &str) {
        let mut state = self.lock();
        let records = state
            .volumes
            .values_mut()
            .flat_map(|v| v.records.values_mut());
        for chain in records
            .filter(|r| r.name == machine)
            .filter_map(|r| r.chain.as_mut())
        {
            chain.marks.clear();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// If this fails, a copy leaves out what was written, or what was taken away.
    #[test]
    fn what_differs_is_what_was_written_or_went() {
        let written = |all: &[(u64, &[u32])]| {
            let mut one = Written::default();
            for (n, blocks) in all {
                one.put(*n, &blocks.iter().copied().collect());
            }
            one
        };
        let then = written(&[(1, &[1, 2, 3]), (4, &[9])]);
        let now = written(&[(1, &[1, 3]), (5, &[2, 7])]);
        let all: Vec<u32> = changed(&then, &now).iter().collect();
        assert_eq!(all, [2, 7, 9]);
        assert!(changed(&now, &now).is_empty());
    }
}
