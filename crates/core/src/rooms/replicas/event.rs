//! What happens to replicas.

use crate::{
    estate::{Disk, Estate, Pen, Snapshot, StoredPoint, Twin},
    ids::MachineId,
    road::{Entry, Tale},
    runs::Object,
};

#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    Followed(Box<Followed>),
    Freed { machine: MachineId, name: String },
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
            Event::Freed { machine, name } => (format!("{name} follows its original no more; it is a machine of its own"), vec![machine.to_string()]),
        };
        Some(Entry::new("machine", text, about))
    }

    fn is_sighting(&self) -> bool {
        false
    }
}
