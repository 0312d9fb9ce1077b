//! What movers brought.

use crate::{
    estate::{AsOf, Disk, Estate, Pen, PointAt, Series, StoredPoint},
    ids::{MachineId, SeriesId, StoreId},
    moment::Moment,
    road::{Entry, Tale},
    runs::Object,
    units::Bytes,
};
use uuid::Uuid;

#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    Copied {
        machine: MachineId,
        /// Its own identity and name, which outlast it.
        uuid: Uuid,
        name: String,
        store: StoreId,
        series: SeriesId,
        point: Box<StoredPoint>,
        /// Nobody could say what had changed: everything was read and compared.
        compared: bool,
    },
    /// Disks hold what a point had.
    Placed {
        machine: MachineId,
        /// All that it has now.
        disks: Vec<Disk>,
        as_of: Option<AsOf>,
        point: PointAt,
        taken: Moment,
        /// Put over what was there; the others are more than before.
        over: usize,
        new: usize,
        bytes: Bytes,
    },
}

impl Tale for Event {
    fn absorb(&self, pen: &mut Pen<'_>) {
        let (uuid, name, store, series, point) = match self {
            Event::Copied { uuid, name, store, series, point, .. } => (uuid, name, store, series, point),
            Event::Placed { machine, disks, as_of, .. } => {
                return pen.machine(*machine, |m| {
                    m.disks.clone_from(disks);
                    m.as_of = as_of.or(m.as_of);
                });
            }
        };
        // Two runs may have begun the same series.
        let known = pen.estate().backups_with(*uuid).find(|s| s.store == *store).map(|s| s.id);
        match known {
            Some(id) => pen.series(id, |s| {
                s.add(StoredPoint::clone(point));
                s.name.clone_from(name);
            }),
            None if pen.estate().stores.contains_key(store) => pen.add_series(&Series {
                id: *series,
                store: *store,
                machine: *uuid,
                name: name.clone(),
                points: vec![StoredPoint::clone(point)],
            }),
            None => {}
        }
    }

    fn tell(&self, estate: &Estate) -> Option<Entry> {
        let (machine, name, store, point, compared) = match self {
            Event::Copied { machine, name, store, point, compared, .. } => (machine, name, store, point, compared),
            Event::Placed { machine, point, taken, over, new, bytes, .. } => {
                let (name, from) = (Object::Machine(*machine).name(estate), Object::Store(point.store).name(estate));
                let of = format!("what {from} had of {}, {bytes}", taken.stamp());
                let text = match (over, new) {
                    (0, 1) => format!("{name} has one more disk, with {of}"),
                    (0, n) => format!("{name} has {n} more disks, with {of}"),
                    (1, _) => format!("A disk of {name} was put back to {of}"),
                    (n, _) => format!("{n} disks of {name} were put back to {of}"),
                };
                return Some(Entry::new("machine", text, vec![machine.to_string(), point.store.to_string()]));
            }
        };
        let (read, stored, took) = (point.read, point.stored, point.took);
        let how = if *compared { ", everything compared as nobody could say what had changed" } else { "" };
        let to = Object::Store(*store).name(estate);
        let text = format!("{name} was copied to {to}: {read} read in {took}, {stored} new there; {}{how}", point.consistent.word());
        Some(Entry::new("machine", text, vec![machine.to_string(), store.to_string()]))
    }

    fn is_sighting(&self) -> bool {
        false
    }
}
