//! What happens to snapshots.

use crate::{
    estate::{Estate, Pen, Snapshot, Snapshots},
    ids::MachineId,
    moment::{Moment, Span},
    road::{Entry, Tale},
    runs::Object,
    units::Bytes,
};
use uuid::Uuid;

#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    Taken {
        machine: MachineId,
        snapshot: Box<Snapshot>,
        /// How long the machine stood still for it.
        still: Span,
    },
    Back {
        machine: MachineId,
        to: Uuid,
    },
    Forgotten {
        machine: MachineId,
        snapshots: Vec<Uuid>,
        copied: Bytes,
        took: Span,
        still: Span,
    },
    Kept {
        machine: MachineId,
        snapshot: Uuid,
        note: String,
        ends: Option<Moment>,
    },
    /// As its host tells of them.
    Seen {
        machine: MachineId,
        snapshots: Box<Snapshots>,
    },
}

impl Event {
    fn machine(&self) -> MachineId {
        match self {
            Event::Taken { machine, .. }
            | Event::Back { machine, .. }
            | Event::Forgotten { machine, .. }
            | Event::Kept { machine, .. }
            | Event::Seen { machine, .. } => *machine,
        }
    }
}

impl Tale for Event {
    fn absorb(&self, pen: &mut Pen<'_>) {
        pen.machine(self.machine(), |m| match self {
            Event::Taken { snapshot, .. } => m.snapshots.take(Snapshot::clone(snapshot)),
            Event::Back { to, .. } => m.snapshots.go_back(*to),
            Event::Forgotten { snapshots, .. } => m.snapshots.forget(snapshots),
            Event::Kept {
                snapshot,
                note,
                ends,
                ..
            } => {
                let all = m.snapshots.all.iter_mut();
                for kept in all.filter(|s| s.uuid == *snapshot) {
                    kept.note.clone_from(note);
                    kept.ends = *ends;
                }
            }
            Event::Seen { snapshots, .. } => m.snapshots.clone_from(snapshots),
        });
    }

    fn tell(&self, estate: &Estate) -> Option<Entry> {
        let machine = self.machine();
        let name = Object::Machine(machine).name(estate);
        let called = |uuid: &Uuid| {
            let known = estate.machines.get(&machine).and_then(|m| m.snapshots.get(*uuid));
            known.map_or_else(|| "a snapshot".to_owned(), |s| format!("“{}”", s.name))
        };
        let text = match self {
            Event::Taken { snapshot, still, .. } => {
                format!("Snapshot “{}” of {name}: {}; it stood still for {still}", snapshot.name, snapshot.consistent.word())
            }
            Event::Back { to, .. } => format!("{name} went back to {}", called(to)),
            Event::Forgotten { snapshots, copied, took, .. } => {
                let which = match snapshots.as_slice() {
                    [one] => called(one),
                    more => format!("{} snapshots", more.len()),
                };
                format!("{name}: {which} deleted, {copied} copied in {took}")
            }
            Event::Kept { snapshot, ends, .. } => {
                let until = if ends.is_some() { "until a given time" } else { "until somebody deletes it" };
                format!("{name}: {} is kept {until}", called(snapshot))
            }
            Event::Seen { snapshots, .. } => format!("{name}: its host tells of {} snapshots", snapshots.all.len()),
        };
        Some(Entry::new("machine", text, vec![machine.to_string()]))
    }

    fn is_sighting(&self) -> bool {
        match self {
            Event::Seen { .. } => true,
            Event::Taken { .. } | Event::Back { .. } | Event::Forgotten { .. } | Event::Kept { .. } => false,
        }
    }
}
