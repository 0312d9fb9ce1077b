//! The records of a volume as a host reads them, compared with the machines that we hold.

use super::MachineReport;
use crate::{
    estate::{Estate, Stray, Strays, Volume},
    ids::VolumeId,
    moment::Moment,
    rooms::{Event, records},
    runs::Object,
    view::View,
};

/// A record, who runs it, and whether it is marked as deleted.
#[derive(Debug, Clone, PartialEq)]
pub struct RecordReport {
    pub record: MachineReport,
    pub runs_on: Option<String>,
    pub deleted: bool,
}

fn stray(volume: &Volume, seen: &RecordReport, now: Moment) -> Stray {
    let r = &seen.record;
    let held = volume.strays.all.get(&r.uuid);
    Stray {
        name: r.name.clone(),
        generation: r.generation,
        created: r.created,
        deleted: seen.deleted,
        runs_on: seen.runs_on.clone(),
        vcpus: r.vcpus,
        memory: r.memory.size,
        disks: super::disks::of(&r.disks, volume.id),
        macs: r.nics.iter().map(|n| n.mac.clone()).collect(),
        snapshots: r.snapshots.as_ref().map_or(0, |s| s.all.len()),
        chip: r.firmware.as_ref().is_some_and(|f| f.chip.is_some()),
        since: held.map_or(now, |h| h.since),
    }
}

/// What is left over of all records of a volume, if that is otherwise than we hold. `before`: the estate when they were asked for.
/// What a run is at work on, or was known before the answer came, says nothing.
pub fn left_over(
    view: &View,
    before: &Estate,
    volume: VolumeId,
    seen: &[RecordReport],
    now: Moment,
) -> Option<Event> {
    let (estate, runs) = (&*view.estate, &*view.runs);
    let ours = estate.volumes.get(&volume).filter(|v| v.ready)?;
    let explained = |r: &&RecordReport| {
        let known = [before, estate].map(|e| e.machine_with_uuid(&r.record.uuid));
        known.into_iter().flatten().any(|m| m.lies_on(ours) || runs.holds(Object::Machine(m.id)) || runs.will_change(Object::Machine(m.id)))
            // Purged between question and answer.
            || known[0].is_some() && known[1].is_none()
    };
    let mut all: Vec<_> = seen.iter().filter(|r| !explained(r)).collect();
    all.sort_by(|a, b| (&a.record.name, a.record.uuid).cmp(&(&b.record.name, b.record.uuid)));
    let more = all.len().saturating_sub(Strays::MOST);
    let kept = all.into_iter().take(Strays::MOST);
    let strays = Box::new(Strays {
        all: kept.map(|r| (r.record.uuid, stray(ours, r, now))).collect(),
        more,
    });
    (*strays != *ours.strays).then_some(Event::Records(records::Event::Seen { volume, strays }))
}
