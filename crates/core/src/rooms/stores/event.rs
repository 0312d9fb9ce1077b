//! What happens to stores.

use crate::{
    estate::{Estate, Pen, Store},
    ids::{SecretRef, SeriesId, StoreId},
    moment::Moment,
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
    Forgotten { store: StoreId, series: Vec<SeriesId> },
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

impl Tale for Event {
    fn absorb(&self, pen: &mut Pen<'_>) {
        match self {
            Event::Planned(store) => pen.add_store(store),
            Event::Keyed { store, key } => pen.store(*store, |s| s.key = Some(*key)),
            Event::Made { store } => pen.store(*store, |s| s.ready = true),
            Event::Dropped { store } => pen.drop_store(*store),
            Event::TakenOut { store, at } => pen.store(*store, |s| s.taken_out = Some(*at)),
            Event::Expired { points, .. } => {
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
                let at = estate.stores.get(store).map_or_else(String::new, |s| s.bucket.words());
                line(store, format!("Store {} was made in {at}", name(store)))
            }
            Event::Dropped { store } => line(store, format!("Store {} was not made", name(store))),
            Event::TakenOut { store, .. } => line(store, format!("The key of store {} was taken out", name(store))),
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
