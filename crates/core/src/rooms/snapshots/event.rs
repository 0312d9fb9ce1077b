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
    /// These are of one instant: all stood still, from before the first until after the last.
    Together {
        machines: Vec<MachineId>,
        name: String,
        /// From when the first was asked for until the last was there.
        within: Span,
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
    /// Whose; none: it is of several.
    fn machine(&self) -> Option<MachineId> {
        match self {
            Event::Together { .. } => None,
            Event::Taken { machine, .. }
            | Event::Back { machine, .. }
            | Event::Forgotten { machine, .. }
            | Event::Kept { machine, .. }
            | Event::Seen { machine, .. } => Some(*machine),
        }
    }
}

impl Event {
    fn told_of_several(&self, estate: &Estate) -> Option<Entry> {
        let Event::Together { machines, name, within } = self else { return None };
        let names: Vec<String> = machines.iter().take(8).map(|id| Object::Machine(*id).name(estate)).collect();
        let more = match machines.len().saturating_sub(8) {
            0 => String::new(),
            n => format!(" and {n} more"),
        };
        let text = format!("Snapshots “{name}” of {}{more} are of one instant: all stood still, the last was there {within} after the first was asked for", names.join(", "));
        Some(Entry::new("machine", text, machines.iter().map(ToString::to_string).collect()))
    }
}

impl Tale for Event {
    fn absorb(&self, pen: &mut Pen<'_>) {
        let Some(machine) = self.machine() else { return };
        pen.machine(machine, |m| match self {
            Event::Together { .. } => {}
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
        let Some(machine) = self.machine() else { return self.told_of_several(estate) };
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
            Event::Together { .. } => return None,
            Event::Seen { snapshots, .. } => format!("{name}: its host tells of {} snapshots", snapshots.all.len()),
        };
        Some(Entry::new("machine", text, vec![machine.to_string()]))
    }

    fn is_sighting(&self) -> bool {
        match self {
            Event::Seen { .. } => true,
            Event::Taken { .. } | Event::Together { .. } | Event::Back { .. } | Event::Forgotten { .. } | Event::Kept { .. } => false,
        }
    }
}
