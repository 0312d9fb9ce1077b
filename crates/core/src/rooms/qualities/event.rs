//! What was stated.

use crate::{
    estate::{Estate, Pen},
    ids::VolumeId,
    road::{Entry, Tale},
    runs::Object,
    text::Line,
};
use std::collections::BTreeSet;

#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    Stated {
        volume: VolumeId,
        qualities: BTreeSet<Line>,
    },
}

impl Tale for Event {
    fn absorb(&self, pen: &mut Pen<'_>) {
        let Event::Stated { volume, qualities } = self;
        pen.volume(*volume, |v| v.qualities.clone_from(qualities));
    }

    fn tell(&self, estate: &Estate) -> Option<Entry> {
        let Event::Stated { volume, qualities } = self;
        let name = Object::Volume(*volume).name(estate);
        let all: Vec<&str> = qualities.iter().map(Line::as_str).collect();
        let text = match all.as_slice() {
            [] => format!("{name} offers nothing in particular"),
            all => format!("{name} offers {}", all.join(", ")),
        };
        Some(Entry::new("storage", text, vec![volume.to_string()]))
    }

    fn is_sighting(&self) -> bool {
        false
    }
}
