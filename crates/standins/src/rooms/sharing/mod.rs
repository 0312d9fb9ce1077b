//! Disks that several machines have: persistent reservations on them, the guests that write to them, and who takes over.

pub(crate) mod calls;
pub(crate) mod disk;
pub(crate) mod guests;

use crate::{rooms::snapshots::blocks, world::World};
use disk::Share;

impl World {
    /// Somebody shares a machine's disk otherwise, at its host, without asking the manager.
    pub fn share_otherwise(&self, machine: &str, controller: u8, reservations: bool) {
        let mut state = self.lock();
        let mut touched = Vec::new();
        for volume in state.volumes.values_mut() {
            let mut records = volume.records.values_mut();
            let Some(record) = records.find(|r| r.name == machine) else {
                continue;
            };
            for share in &mut record.shares {
                share.controller = controller;
                share.mode = Share::mode(reservations).to_owned();
            }
            touched.push(volume.uid.clone());
        }
        for uid in touched {
            self.save_volume(&state, &uid);
        }
    }

    /// Who holds the reservation of a shared disk, by the names of both.
    pub fn writer(&self, disk: &str) -> Option<String> {
        let state = self.lock();
        let mut disks = state.volumes.values().flat_map(|v| v.shared.disks.values());
        let holder = disks.find(|d| d.name == disk)?.holder.clone()?;
        state.machine_name(&holder.machine)
    }

    /// What a shared disk holds: equal words, equal bytes.
    pub fn shared(&self, disk: &str) -> Option<String> {
        let state = self.lock();
        let mut disks = state.volumes.values().flat_map(|v| v.shared.disks.values());
        let found = disks.find(|d| d.name == disk)?;
        Some(blocks::words(&found.content))
    }
}
