//! What became of records that no machine was held for.

use crate::{
    estate::{Estate, Machine, Pen, Stray, Strays},
    ids::{MachineId, VolumeId},
    moment::Moment,
    road::{Entry, Tale},
    runs::Object,
};
use uuid::Uuid;

#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    /// A host was asked for all of a volume; these are left over.
    Seen { volume: VolumeId, strays: Box<Strays> },
    /// A machine is held for it.
    Registered { volume: VolumeId, record: Uuid, name: String },
    /// A machine that is held already has its disks there now, as the record says.
    Taken { machine: Box<Machine>, at: Moment },
    Forgotten { volume: VolumeId, record: Uuid, name: String },
}

fn settled(pen: &mut Pen<'_>, volume: VolumeId, record: &Uuid) {
    pen.volume(volume, |v| {
        v.strays.all.remove(record);
    });
}

/// What people decided of it stays; what it is, its record says.
fn take(pen: &mut Pen<'_>, found: &Machine, at: Moment) {
    let Some(held) = pen.estate().machines.get(&found.id).cloned() else { return };
    let from = held.disks.first().map(|d| d.volume);
    if let Some(from) = from {
        pen.volume(from, |v| {
            v.strays.all.insert(held.uuid, Stray::of(&held, at));
        });
    }
    pen.machine(found.id, |m| {
        m.vcpus = found.vcpus;
        m.vcpus_max = found.vcpus_max;
        m.memory = found.memory;
        m.video = found.video;
        m.disks.clone_from(&found.disks);
        m.nics.clone_from(&found.nics);
        m.boot = found.boot.clone();
        m.snapshots.clone_from(&found.snapshots);
        m.firmware.clone_from(&found.firmware);
        m.generation = found.generation;
        m.generation_id = found.generation_id;
        m.guest_key.clone_from(&found.guest_key);
        m.virtual_hardware = found.virtual_hardware;
        m.as_of = None;
    });
    if let Some(to) = found.disks.first() {
        settled(pen, to.volume, &found.uuid);
    }
}

impl Tale for Event {
    fn absorb(&self, pen: &mut Pen<'_>) {
        match self {
            Event::Seen { volume, strays } => pen.volume(*volume, |v| v.strays.clone_from(strays)),
            Event::Registered { volume, record, .. } | Event::Forgotten { volume, record, .. } => settled(pen, *volume, record),
            Event::Taken { machine, at } => take(pen, machine, *at),
        }
    }

    fn tell(&self, estate: &Estate) -> Option<Entry> {
        let named = |id: VolumeId| Object::Volume(id).name(estate);
        match self {
            Event::Seen { volume, strays } => {
                let name = named(*volume);
                let names: Vec<&str> = strays.all.values().map(|s| s.name.as_str()).collect();
                let text = match names.as_slice() {
                    [] => format!("Every record on {name} is one of a machine"),
                    [one] => format!("On {name} lies a record to settle: {one}"),
                    [one, ..] => format!("On {name} lie {} records to settle, {one} among them", names.len() + strays.more),
                };
                Some(Entry::new("storage", text, vec![volume.to_string()]))
            }
            Event::Registered { volume, name, .. } => {
                let text = format!("The record of {name} on {} was registered", named(*volume));
                Some(Entry::new("storage", text, vec![volume.to_string()]))
            }
            Event::Taken { machine, .. } => {
                let home: Option<VolumeId> = machine.disks.first().map(|d| d.volume);
                let who: MachineId = machine.id;
                let name = Object::Machine(who).name(estate);
                let text = format!("{name} has its disks on {} now", home.map_or_else(String::new, named));
                let about = [Some(who.to_string()), home.map(|v| v.to_string())];
                Some(Entry::new("machine", text, about.into_iter().flatten().collect()))
            }
            Event::Forgotten { volume, name, .. } => {
                let text = format!("The record of {name} on {} was taken away; its disks are unattached", named(*volume));
                Some(Entry::new("storage", text, vec![volume.to_string()]))
            }
        }
    }

    fn is_sighting(&self) -> bool {
        match self {
            Event::Seen { .. } => true,
            Event::Registered { .. } | Event::Taken { .. } | Event::Forgotten { .. } => false,
        }
    }
}
