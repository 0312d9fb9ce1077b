//! What happens to disks and cards.

use crate::{
    estate::{AsOf, Disk, Estate, Nic, Pen, Unattached},
    ids::{MachineId, VolumeId},
    road::{Entry, Tale},
    runs::Object,
    units::Bytes,
};
use uuid::Uuid;

/// What was done, for those who read of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Done {
    Added(Bytes),
    Detached,
    Deleted,
    Attached(Uuid),
    Cards,
}

#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    /// A machine has these disks and cards now.
    Changed {
        machine: MachineId,
        disks: Vec<Disk>,
        nics: Vec<Nic>,
        as_of: Option<AsOf>,
        done: Done,
    },
    /// Its host tells of other disks than we hold.
    Disks {
        machine: MachineId,
        disks: Vec<Disk>,
    },
    /// Disks that no machine has, as a host tells of them.
    Unattached {
        volume: VolumeId,
        all: Box<Unattached>,
    },
    Marked {
        volume: VolumeId,
        had: String,
        deleted: bool,
    },
    Purged {
        volume: VolumeId,
        had: String,
    },
}

impl Tale for Event {
    fn absorb(&self, pen: &mut Pen<'_>) {
        match self {
            Event::Changed {
                machine,
                disks,
                nics,
                as_of,
                ..
            } => pen.machine(*machine, |m| {
                m.disks.clone_from(disks);
                m.nics.clone_from(nics);
                m.as_of = as_of.or(m.as_of);
            }),
            Event::Disks { machine, disks } => pen.machine(*machine, |m| m.disks.clone_from(disks)),
            Event::Unattached { volume, all } => pen.volume(*volume, |v| {
                if all.seq > v.unattached.seq {
                    v.unattached.clone_from(all);
                }
            }),
            Event::Marked { .. } | Event::Purged { .. } => {}
        }
    }

    fn tell(&self, estate: &Estate) -> Option<Entry> {
        match self {
            Event::Changed { machine, done, .. } => {
                let name = Object::Machine(*machine).name(estate);
                let text = match done {
                    Done::Added(size) => format!("{name} has one more disk, of {size}"),
                    Done::Detached => format!("A disk of {name} was detached and kept"),
                    Done::Deleted => format!("A disk of {name} was deleted; it is recoverable for some days"),
                    Done::Attached(disk) => format!("{name} has a disk{} now", of(estate, *disk)),
                    Done::Cards => format!("{name}: its cards were changed"),
                };
                Some(Entry::new("machine", text, vec![machine.to_string()]))
            }
            Event::Disks { machine, disks } => {
                let text = format!("{}: its host tells of {} disks", Object::Machine(*machine).name(estate), disks.len());
                Some(Entry::new("machine", text, vec![machine.to_string()]))
            }
            Event::Unattached { .. } => None,
            Event::Marked {
                volume,
                had,
                deleted,
            } => {
                let what = if *deleted { "deleted" } else { "brought back" };
                let text = format!("The unattached disk that {had} had was {what}");
                Some(Entry::new("storage", text, vec![volume.to_string()]))
            }
            Event::Purged { volume, had } => {
                let text = format!("The disk that {had} had was removed for good");
                Some(Entry::new("storage", text, vec![volume.to_string()]))
            }
        }
    }

    fn is_sighting(&self) -> bool {
        match self {
            Event::Disks { .. } | Event::Unattached { .. } => true,
            Event::Changed { .. } | Event::Marked { .. } | Event::Purged { .. } => false,
        }
    }
}

/// ` that stowage-01 had`, while it is unattached.
fn of(estate: &Estate, disk: Uuid) -> String {
    let mut all = estate.volumes.values().filter_map(|v| v.unattached.disks.get(&disk));
    all.next().map_or_else(String::new, |d| format!(" that {} had", d.had))
}
