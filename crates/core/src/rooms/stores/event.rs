//! What happens to stores.

use crate::{
    estate::{Estate, Pen, Store},
    ids::{SecretRef, SeriesId, StoreId},
    moment::Moment,
    road::{Entry, Tale},
    runs::Object,
};

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
}

impl Tale for Event {
    fn absorb(&self, pen: &mut Pen<'_>) {
        match self {
            Event::Planned(store) => pen.add_store(store),
            Event::Keyed { store, key } => pen.store(*store, |s| s.key = Some(*key)),
            Event::Made { store } => pen.store(*store, |s| s.ready = true),
            Event::Dropped { store } => pen.drop_store(*store),
            Event::TakenOut { store, at } => pen.store(*store, |s| s.taken_out = Some(*at)),
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
            Event::Forgotten { store, .. } => line(store, format!("Store {} was forgotten; what lies in it stays there", name(store))),
        }
    }

    fn is_sighting(&self) -> bool {
        false
    }
}
