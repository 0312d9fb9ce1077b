//! What happens to stores.

use crate::{
    estate::{Estate, Inside, Pen, Series, Store, StoredPoint},
    ids::{SecretRef, SeriesId, StoreId},
    moment::{Moment, Span},
    road::{Entry, Tale},
    runs::Object,
    units::Bytes,
};
use std::collections::{BTreeMap, BTreeSet};
use uuid::Uuid;

#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    /// Its name is held.
    Planned(Box<Store>),
    Keyed { store: StoreId, key: SecretRef },
    Made { store: StoreId },
    /// It was not made.
    Dropped { store: StoreId },
    TakenOut { store: StoreId, at: Moment },
    /// Somebody reads a file out of a point.
    FileRead { file: Inside, of: String, taken: Moment },
    Forgotten { store: StoreId, series: Vec<SeriesId> },
    /// It was there already, and is called so by itself.
    Opened { store: StoreId, uuid: Uuid, lock: Option<Span>, at: Moment },
    /// It was looked through.
    Read(Box<Read>),
    /// Points, by their sessions.
    Expired { store: StoreId, points: Vec<(SeriesId, Uuid)> },
    Swept {
        store: StoreId,
        at: Moment,
        /// Chunks that went, what they took, and those that go next.
        gone: u64,
        freed: Bytes,
        condemned: u64,
    },
}

/// What a store has that is not known, and what is known that it has no more.
#[derive(Debug, Clone, PartialEq)]
pub struct Read {
    pub store: StoreId,
    /// All that it has, and those of them that can't be read.
    pub points: usize,
    pub damaged: usize,
    pub found: Vec<FoundPoint>,
    pub gone: Vec<(SeriesId, Uuid)>,
}

#[derive(Debug, Clone, PartialEq)]
pub struct FoundPoint {
    /// The machine's own identity, and what it was called.
    pub machine: Uuid,
    pub name: String,
    pub point: StoredPoint,
}

/// Points that are not there any more; of whom none is left, the series goes too.
fn drop_points(pen: &mut Pen<'_>, points: &[(SeriesId, Uuid)]) {
    let mut by_series: BTreeMap<SeriesId, BTreeSet<Uuid>> = BTreeMap::new();
    for (series, session) in points {
        by_series.entry(*series).or_default().insert(*session);
    }
    for (id, gone) in by_series {
        pen.series(id, |s| s.points.retain(|p| !gone.contains(&p.session)));
        if pen.estate().series.get(&id).is_some_and(|s| s.points.is_empty()) {
            pen.drop_series(id);
        }
    }
}

fn add_points(pen: &mut Pen<'_>, read: &Read) {
    let mut by_machine: BTreeMap<Uuid, Vec<&FoundPoint>> = BTreeMap::new();
    for found in &read.found {
        by_machine.entry(found.machine).or_default().push(found);
    }
    for (machine, found) in by_machine {
        let newest = found.iter().max_by_key(|f| f.point.taken);
        let name = newest.map_or_else(String::new, |f| f.name.clone());
        let known = pen.estate().backups_with(machine).find(|s| s.store == read.store).map(|s| s.id);
        let id = known.unwrap_or(SeriesId(pen.estate().next));
        if known.is_none() {
            pen.add_series(&Series { id, store: read.store, machine, name, points: vec![] });
        }
        pen.series(id, |s| found.iter().for_each(|f| s.add(f.point.clone())));
    }
}

impl Tale for Event {
    fn absorb(&self, pen: &mut Pen<'_>) {
        match self {
            Event::Planned(store) => pen.add_store(store),
            Event::Keyed { store, key } => pen.store(*store, |s| s.key = Some(*key)),
            Event::Made { store } => pen.store(*store, |s| s.ready = true),
            Event::Dropped { store } => pen.drop_store(*store),
            Event::TakenOut { store, at } => pen.store(*store, |s| s.taken_out = Some(*at)),
            Event::FileRead { .. } => {}
            Event::Opened { store, uuid, lock, at } => pen.store(*store, |s| {
                s.uuid = *uuid;
                s.lock = *lock;
                s.ready = true;
                // Whoever typed its key has it elsewhere.
                s.taken_out = Some(*at);
            }),
            Event::Read(read) => {
                drop_points(pen, &read.gone);
                add_points(pen, read);
            }
            Event::Expired { points, .. } => drop_points(pen, points),
            Event::Swept { store, at, .. } => pen.store(*store, |s| s.swept = Some(*at)),
            Event::Forgotten { store, series } => {
                series.iter().for_each(|id| pen.drop_series(*id));
                pen.drop_store(*store);
            }
        }
    }

    fn tell(&self, estate: &Estate) -> Option<Entry> {
        let line = |store: &StoreId, text: String| Some(Entry::new("storage", text, vec![store.to_string()]));
        let name = |store: &StoreId| Object::Store(*store).name(estate);
        match self {
            Event::Planned(_) | Event::Keyed { .. } => None,
            Event::Made { store } => {
                let at = estate.stores.get(store).map_or_else(String::new, |s| s.lies.words());
                let locked = estate.stores.get(store).and_then(|s| s.lock);
                let locked = locked.map_or_else(String::new, |l| format!("; what is written to it is locked for {l}"));
                line(store, format!("Store {} was made in {at}{locked}", name(store)))
            }
            Event::Opened { store, .. } => {
                let at = estate.stores.get(store).map_or_else(String::new, |s| s.lies.words());
                line(store, format!("Store {} was opened in {at}: it was there already", name(store)))
            }
            Event::Read(read) => {
                let damaged = match read.damaged {
                    0 => String::new(),
                    n => format!("; {n} can't be read"),
                };
                let (found, gone) = (read.found.len(), read.gone.len());
                let text = format!("{} has {} recovery points: {found} were not known, {gone} are there no more{damaged}", name(&read.store), read.points);
                line(&read.store, text)
            }
            Event::Dropped { store } => line(store, format!("Store {} was not made", name(store))),
            Event::TakenOut { store, .. } => line(store, format!("The key of store {} was taken out", name(store))),
            Event::FileRead { file, of, taken } => {
                let text = format!("The file {file} of {of} as of {} UTC was read out of {}", taken.stamp(), name(&file.point.store));
                line(&file.point.store, text)
            }
            Event::Expired { points, .. } if points.is_empty() => None,
            Event::Expired { store, points } => {
                let text = format!("{} recovery points in {} are not kept any more", points.len(), name(store));
                line(store, text)
            }
            Event::Swept { gone: 0, .. } => None,
            Event::Swept { store, gone, freed, .. } => {
                line(store, format!("{} was swept: {gone} chunks that nothing needs went, {freed}", name(store)))
            }
            Event::Forgotten { store, .. } => line(store, format!("Store {} was forgotten; what lies in it stays there", name(store))),
        }
    }

    fn is_sighting(&self) -> bool {
        false
    }
}
