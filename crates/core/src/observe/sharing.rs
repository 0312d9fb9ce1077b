//! Shared disks as hosts tell of them: how each machine has them, and what became of them on their volumes.

use super::{HostReport, MachineReport};
use crate::{
    estate::{Estate, Machine, Mode, SharedAs, Slot},
    evidence::SeenVolume,
    rooms::{Event, sharing},
    runs::{Object, Runs},
};
use serde::{Deserialize, Serialize};

/// A shared disk of a machine as its host reports it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ShareReport {
    pub disk: uuid::Uuid,
    /// Identity of the volume that it lies on.
    pub volume: String,
    pub slot: Slot,
    pub mode: Mode,
}

/// Those of volumes that we know.
pub fn shares(estate: &Estate, seen: &[ShareReport]) -> Vec<SharedAs> {
    let share = |s: &ShareReport| {
        Some(SharedAs {
            disk: s.disk,
            volume: estate.volume_with_uid(&s.volume)?.id,
            slot: s.slot,
            mode: s.mode,
        })
    };
    let mut all: Vec<SharedAs> = seen.iter().filter_map(share).collect();
    all.sort_by_key(|s| s.disk);
    all.dedup_by_key(|s| s.disk);
    all
}

/// Others than we hold, unless a run is about to change just that.
pub(super) fn differ(
    estate: &Estate,
    runs: &Runs,
    ours: &Machine,
    seen: &MachineReport,
) -> Option<Event> {
    let there = shares(estate, seen.shares.as_deref()?);
    let differs = there != ours.shares && seen.generation >= ours.generation;
    (differs && !runs.will_change(Object::Machine(ours.id))).then_some(Event::Sharing(
        sharing::Event::Shares {
            machine: ours.id,
            shares: there,
        },
    ))
}

/// Of volumes; what was said earlier than what we hold is none. Who took over since is told one by one.
pub(super) fn told(estate: &Estate, report: &HostReport) -> Vec<Event> {
    let changed = |seen: &SeenVolume| -> Option<Vec<Event>> {
        let (all, ours) = (seen.shared.as_ref()?, estate.volume_with_uid(&seen.uid)?);
        if all.seq <= ours.shared.seq {
            return None;
        }
        let mut events = Vec::new();
        for (key, disk) in &all.disks {
            // Of a volume that was never heard of nobody tells old stories.
            let Some(held) = ours.shared.disks.get(key) else {
                continue;
            };
            let since = held.takeovers.last().map(|t| t.first);
            let new = disk
                .takeovers
                .iter()
                .filter(|t| since.is_none_or(|s| t.first > s));
            events.extend(new.map(|t| {
                Event::Sharing(sharing::Event::TookOver {
                    volume: ours.id,
                    disk: *key,
                    name: disk.name.clone(),
                    from: t.from,
                    to: t.to,
                    took: t.took(),
                })
            }));
        }
        events.push(Event::Sharing(sharing::Event::Told {
            volume: ours.id,
            all: all.clone(),
        }));
        Some(events)
    };
    report
        .volumes
        .iter()
        .filter_map(changed)
        .flatten()
        .collect()
}
