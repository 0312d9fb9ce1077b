//! Disks as hosts tell of them: those of machines, and those that no machine has.

use super::{HostReport, MachineReport};
use crate::{
    estate::{Disk, Estate, Machine, Nic, Provisioning},
    evidence::SeenVolume,
    ids::VolumeId,
    rooms::{Event, hardware},
    runs::{Object, Runs},
    units::Bytes,
};
use serde::{Deserialize, Serialize};

/// A disk of a machine as its host reports it; a nil key where the agent knows none.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct DiskReport {
    pub key: uuid::Uuid,
    pub size: Bytes,
    pub thick: bool,
}

/// The disks of a machine, all on the volume of its record.
pub(super) fn of(seen: &[DiskReport], volume: VolumeId) -> Vec<Disk> {
    let disk = |d: &DiskReport| Disk {
        key: d.key,
        size: d.size,
        provisioning: if d.thick {
            Provisioning::Thick
        } else {
            Provisioning::Thin
        },
        volume,
    };
    seen.iter().map(disk).collect()
}

/// The disks and cards of a machine as its host has just told.
pub fn hardware(estate: &Estate, ours: &Machine, seen: &MachineReport) -> (Vec<Disk>, Vec<Nic>) {
    let home = ours.disks.first().map_or(VolumeId(0), |d| d.volume);
    (
        of(&seen.disks, home),
        super::nics(estate, ours.cluster, &seen.nics),
    )
}

/// Other disks than we hold, unless a run is about to change just that. What has no key of its own tells nothing of which it is.
pub(super) fn differ(runs: &Runs, ours: &Machine, seen: &MachineReport) -> Option<Event> {
    let home = ours.disks.first()?.volume;
    let known = seen.disks.iter().all(|d| !d.key.is_nil());
    if seen.disks.is_empty() || !known || seen.generation < ours.generation {
        return None;
    }
    let disks = of(&seen.disks, home);
    let differs = disks != ours.disks && !runs.will_change(Object::Machine(ours.id));
    differs.then_some(Event::Hardware(hardware::Event::Disks {
        machine: ours.id,
        disks,
    }))
}

/// Unattached disks of volumes; what was said earlier than what we hold is none.
pub(super) fn unattached(estate: &Estate, report: &HostReport) -> Vec<Event> {
    let changed = |seen: &SeenVolume| {
        let (all, ours) = (
            seen.unattached.as_ref()?,
            estate.volume_with_uid(&seen.uid)?,
        );
        let newer = all.seq > ours.unattached.seq;
        newer.then(|| {
            Event::Hardware(hardware::Event::Unattached {
                volume: ours.id,
                all: all.clone(),
            })
        })
    };
    report.volumes.iter().filter_map(changed).collect()
}
