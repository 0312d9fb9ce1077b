//! The sheets that pack a machine or a disk of it into a file, and that write a disk from one.

pub(super) mod bring;
pub(super) mod pack;
pub(super) mod write;

use zastrugi_core::estate::Machine;

/// Disks of a machine by their keys.
fn disks(machine: Option<&Machine>) -> Vec<(uuid::Uuid, String)> {
    let all = machine.map(|m| m.disks.as_slice()).unwrap_or_default();
    (1usize..)
        .zip(all)
        .map(|(n, d)| (d.key, format!("disk {n} · {}", d.size)))
        .collect()
}
