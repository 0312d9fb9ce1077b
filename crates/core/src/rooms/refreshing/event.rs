//! What became of a disk that was copied.

use crate::{
    estate::{AsOf, Disk, Estate, Pen},
    ids::MachineId,
    moment::Span,
    road::{Entry, Tale},
    runs::Object,
    units::Bytes,
};

#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    Copied {
        machine: MachineId,
        /// All that it has now.
        disks: Vec<Disk>,
        as_of: Option<AsOf>,
        /// The one that was written, counted from one.
        number: usize,
        /// One more than before.
        new: bool,
        from: MachineId,
        copied: Bytes,
        took: Span,
    },
}

impl Tale for Event {
    fn absorb(&self, pen: &mut Pen<'_>) {
        let Event::Copied { machine, disks, as_of, .. } = self;
        pen.machine(*machine, |m| {
            m.disks.clone_from(disks);
            m.as_of = as_of.or(m.as_of);
        });
    }

    fn tell(&self, estate: &Estate) -> Option<Entry> {
        let Event::Copied { machine, number, new, from, copied, took, .. } = self;
        let (to, of) = (Object::Machine(*machine).name(estate), Object::Machine(*from).name(estate));
        let text = match new {
            true => format!("{to} has one more disk, a copy of one of {of}: {copied} in {took}"),
            false => format!("Disk {number} of {to} holds what one of {of} held: {copied} in {took}"),
        };
        Some(Entry::new("machine", text, vec![machine.to_string(), from.to_string()]))
    }

    fn is_sighting(&self) -> bool {
        false
    }
}
