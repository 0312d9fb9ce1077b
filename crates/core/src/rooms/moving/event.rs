//! What happens to machines on their way.

use crate::{
    estate::{Estate, Moved, Pen},
    ids::{HostId, MachineId, VolumeId},
    moment::Span,
    road::{Entry, Tale},
    runs::Object,
};

#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    /// Room is held for it on another host, or given back.
    Moving {
        machine: MachineId,
        to: Option<HostId>,
    },
    /// It runs on another host now, under a higher generation.
    Moved {
        machine: MachineId,
        generation: u64,
        moved: Box<Moved>,
    },
    /// All its disks lie on another volume now.
    DisksMoved {
        machine: MachineId,
        generation: u64,
        from: VolumeId,
        to: VolumeId,
        took: Span,
    },
}

impl Tale for Event {
    fn absorb(&self, pen: &mut Pen<'_>) {
        match self {
            Event::Moving { machine, to } => pen.machine(*machine, |m| m.arriving = *to),
            Event::Moved {
                machine,
                generation,
                moved,
            } => pen.machine(*machine, |m| {
                m.arriving = None;
                if *generation >= m.generation {
                    m.generation = *generation;
                    m.host = Some(moved.to);
                }
                m.moved = Some(moved.clone());
            }),
            Event::DisksMoved {
                machine,
                generation,
                to,
                ..
            } => pen.machine(*machine, |m| {
                m.generation = m.generation.max(*generation);
                m.disks.iter_mut().for_each(|d| d.volume = *to);
            }),
        }
    }

    fn tell(&self, estate: &Estate) -> Option<Entry> {
        match self {
            Event::Moving { .. } => None,
            Event::Moved { machine, moved, .. } => {
                let name = Object::Machine(*machine).name(estate);
                let from = Object::Host(moved.from).name(estate);
                let to = Object::Host(moved.to).name(estate);
                let (took, still) = (moved.measured.took, moved.measured.stood_still);
                let text = format!(
                    "{name} was moved from {from} to {to} in {took}; it stood still for {still}"
                );
                Some(Entry::new("machine", text, vec![machine.to_string()]))
            }
            Event::DisksMoved {
                machine,
                from,
                to,
                took,
                ..
            } => {
                let name = |o: Object| o.name(estate);
                let (who, from, to) = (Object::Machine(*machine), Object::Volume(*from), Object::Volume(*to));
                let (was, is) = (name(from), name(to));
                let text = format!("{}: its disks went from {was} to {is} in {took}", name(who));
                let about = [who, from, to].map(|o| o.to_string());
                Some(Entry::new("machine", text, about.to_vec()))
            }
        }
    }

    fn is_sighting(&self) -> bool {
        false
    }
}
