//! What happens to shared disks.

use crate::{
    estate::{AsOf, Estate, Pen, SharedAs, SharedDisks},
    ids::{MachineId, VolumeId},
    moment::Span,
    road::{Entry, Tale},
    runs::Object,
};
use uuid::Uuid;

/// By what events about a disk are found.
pub fn about(disk: Uuid) -> String {
    format!("shared-{disk}")
}

/// What was done, for those who read of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Done {
    Given,
    Taken,
}

#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    Made {
        volume: VolumeId,
        disk: Uuid,
        name: String,
    },
    /// A machine has these from now on.
    Changed {
        machine: MachineId,
        shares: Vec<SharedAs>,
        as_of: Option<AsOf>,
        done: Done,
        disk: Uuid,
        name: String,
    },
    Ended {
        volume: VolumeId,
        disk: Uuid,
        name: String,
    },
    /// Its host tells of others than we hold.
    Shares {
        machine: MachineId,
        shares: Vec<SharedAs>,
    },
    /// Those of a volume, as a host tells of them.
    Told {
        volume: VolumeId,
        all: Box<SharedDisks>,
    },
    TookOver {
        volume: VolumeId,
        disk: Uuid,
        name: String,
        from: Uuid,
        to: Uuid,
        took: Span,
    },
}

impl Tale for Event {
    fn absorb(&self, pen: &mut Pen<'_>) {
        match self {
            Event::Changed { machine, shares, as_of, .. } => pen.machine(*machine, |m| {
                m.shares.clone_from(shares);
                m.as_of = as_of.or(m.as_of);
            }),
            Event::Shares { machine, shares } => pen.machine(*machine, |m| m.shares.clone_from(shares)),
            Event::Told { volume, all } => pen.volume(*volume, |v| {
                if all.seq > v.shared.seq {
                    v.shared.clone_from(all);
                }
            }),
            Event::Made { .. } | Event::Ended { .. } | Event::TookOver { .. } => {}
        }
    }

    fn tell(&self, estate: &Estate) -> Option<Entry> {
        let storage = |text: String, volume: &VolumeId, disk: &Uuid| Some(Entry::new("storage", text, vec![volume.to_string(), about(*disk)]));
        match self {
            Event::Made { volume, disk, name } => storage(format!("Shared disk {name} was made"), volume, disk),
            Event::Ended { volume, disk, name } => storage(format!("{name} is shared no more; the disk is kept, and no machine has it"), volume, disk),
            Event::Changed { machine, done, disk, name, .. } => {
                let who = Object::Machine(*machine).name(estate);
                let text = match done {
                    Done::Given => format!("{who} has shared disk {name}"),
                    Done::Taken => format!("{who} has shared disk {name} no more"),
                };
                Some(Entry::new("machine", text, vec![machine.to_string(), about(*disk)]))
            }
            Event::Shares { machine, shares } => {
                let who = Object::Machine(*machine).name(estate);
                let text = format!("Its host tells how {who} has its {} shared disks", shares.len());
                let disks = shares.iter().map(|s| about(s.disk));
                Some(Entry::new("machine", text, [machine.to_string()].into_iter().chain(disks).collect()))
            }
            Event::Told { .. } => None,
            Event::TookOver { volume, disk, name: called, from, to, took } => {
                let name = |uuid: &Uuid| estate.machine_with_uuid(uuid).map_or_else(|| uuid.to_string(), |m| m.name.clone());
                let who = [to, from].into_iter().filter_map(|u| estate.machine_with_uuid(u));
                let about = who.map(|m| m.id.to_string()).chain([volume.to_string(), about(*disk)]).collect();
                let text = format!("{} took {called} over from {}; nobody wrote for {took}", name(to), name(from));
                Some(Entry::new("machine", text, about))
            }
        }
    }

    fn is_sighting(&self) -> bool {
        match self {
            Event::Shares { .. } | Event::Told { .. } => true,
            Event::Made { .. } | Event::Changed { .. } | Event::Ended { .. } | Event::TookOver { .. } => false,
        }
    }
}
