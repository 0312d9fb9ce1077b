//! What makes a guest itself, removed from a copy.

use crate::rooms::snapshots::blocks::Written;
use roaring::RoaringBitmap;

/// What the agent removes.
pub(crate) const REMOVED: [&str; 6] = [
    "SSH host keys",
    "machine id",
    "DHCP leases",
    "host name",
    "shell histories",
    "logs",
];
/// Where all that lies.
const BLOCKS: std::ops::Range<u32> = 8..24;

/// Blocks of the first disk get other content; those that hold nothing stay so.
pub(crate) fn seal(content: &mut [Written]) {
    let Some(first) = content.first_mut() else {
        return;
    };
    let newest = first.newest().unwrap_or(0);
    let held = first.all();
    let blocks: RoaringBitmap = BLOCKS.filter(|b| held.contains(*b)).collect();
    first.put(newest + 1, &blocks);
}
