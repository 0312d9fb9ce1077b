//! What happens to replicas.

use crate::{
    estate::{Crossed, Disk, Equal, Estate, Pen, Snapshot, StoredPoint, Twin},
    ids::MachineId,
    road::{Entry, Tale},
    runs::Object,
};
use uuid::Uuid;

#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    Followed(Box<Followed>),
    Freed { machine: MachineId, name: String },
    /// Both sides hold the same of what was copied last.
    Compared {
        machine: MachineId,
        point: Uuid,
        equal: Equal,
    },
    /// It goes on at the other site; its replica is what it was there.
    Crossed {
        machine: MachineId,
        replica: MachineId,
        way: Crossed,
        behind: String,
        /// Whatever became of what it was.
        forced: bool,
    },
    /// What it holds is its first point: it follows again.
    Regarded { machine: MachineId, point: Box<StoredPoint> },
}

/// A replica holds what its original held at one more point.
#[derive(Debug, Clone, PartialEq)]
pub struct Followed {
    pub machine: MachineId,
    /// What the original is called.
    pub original: MachineId,
    pub name: String,
    /// All that it has now.
    pub disks: Vec<Disk>,
    pub twins: Vec<Twin>,
    pub point: StoredPoint,
    /// The point as its host knows it.
    pub snapshot: Snapshot,
    /// Nobody could say what had changed: both sides were read and compared.
    pub compared: bool,
}

/// Both change places at once.
fn crossed(pen: &mut Pen<'_>, (machine, replica): (MachineId, MachineId), way: Crossed, (behind, forced): (&str, bool)) {
    let estate = pen.estate();
    let both = estate.machines.get(&machine).zip(estate.machines.get(&replica));
    let Some((over, stays)) = both.and_then(|(m, r)| m.crosses(r, way, (behind, forced))) else { return };
    pen.machine(machine, |m| *m = over);
    pen.machine(replica, |m| *m = stays);
}

impl Tale for Event {
    fn absorb(&self, pen: &mut Pen<'_>) {
        match self {
            Event::Followed(f) => pen.machine(f.machine, |m| {
                m.snapshots.take(f.snapshot.clone());
                m.disks.clone_from(&f.disks);
                let there = m.snapshots.all.iter().map(|s| s.uuid);
                let there: Vec<_> = there.collect();
                if let Some(replica) = m.replica.as_mut() {
                    replica.name.clone_from(&f.name);
                    replica.disks.clone_from(&f.twins);
                    replica.add(f.point.clone());
                    replica.points.retain(|p| there.contains(&p.session));
                }
            }),
            Event::Freed { machine, .. } => pen.machine(*machine, |m| m.replica = None),
            Event::Compared { machine, point, equal } => pen.machine(*machine, |m| {
                let mut all = m.replica.iter_mut().flat_map(|r| &mut r.points);
                if let Some(point) = all.find(|p| p.session == *point) {
                    point.equal = Some(*equal);
                }
            }),
            Event::Crossed { machine, replica, way, behind, forced } => crossed(pen, (*machine, *replica), *way, (behind, *forced)),
            Event::Regarded { machine, point } => pen.machine(*machine, |m| {
                if let Some(replica) = m.replica.as_mut() {
                    replica.astray = false;
                    replica.add(StoredPoint::clone(point));
                }
            }),
        }
    }

    fn tell(&self, estate: &Estate) -> Option<Entry> {
        let (text, about) = match self {
            Event::Followed(f) => {
                let replica = Object::Machine(f.machine).name(estate);
                let how = match f.compared {
                    true => "; nobody could say what had changed, so both sides were read and compared",
                    false => "",
                };
                let (read, took) = (f.point.read, f.point.took);
                let text = format!("{replica} holds what {} held at {} UTC: {read} in {took}, {}{how}", f.name, f.point.taken.stamp(), f.point.consistent.word());
                (text, vec![f.original.to_string(), f.machine.to_string()])
            }
            // The report of it says it.
            Event::Compared { .. } => return None,
            Event::Crossed { machine, replica, way, .. } => {
                let name = Object::Machine(*machine).name(estate);
                let road = estate.road(crate::estate::Way { pair: way.pair, from: way.from });
                let site = road.map_or_else(String::new, |r| format!(" at {}", r.to.site_name(estate)));
                (format!("{name} goes on{site}; what it was is its replica now"), vec![machine.to_string(), replica.to_string()])
            }
            Event::Regarded { machine, .. } => {
                let text = format!("{} follows again; what it held when it was superseded is a point of it", Object::Machine(*machine).name(estate));
                (text, vec![machine.to_string()])
            }
            Event::Freed { machine, name } => (format!("{name} follows its original no more; it is a machine of its own"), vec![machine.to_string()]),
        };
        Some(Entry::new("machine", text, about))
    }

    fn is_sighting(&self) -> bool {
        false
    }
}
