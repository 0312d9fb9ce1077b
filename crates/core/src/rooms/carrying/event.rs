//! What movers brought.

use crate::{
    estate::{Estate, Pen, Series, StoredPoint},
    ids::{MachineId, SeriesId, StoreId},
    road::{Entry, Tale},
    runs::Object,
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
}

impl Tale for Event {
    fn absorb(&self, pen: &mut Pen<'_>) {
        let Event::Copied { uuid, name, store, series, point, .. } = self;
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
        let Event::Copied { machine, name, store, point, compared, .. } = self;
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
