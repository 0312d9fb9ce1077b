//! What happens to pairs.

use crate::{
    estate::{Estate, Pair, Pen, Trouble},
    ids::PairId,
    moment::Moment,
    road::{Entry, Tale},
    runs::Object,
};

#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    Made(Box<Pair>),
    Kept(Box<Pair>),
    Removed { pair: PairId, name: String },
    /// What came of trying it; none: nothing is wrong.
    Tried { pair: PairId, at: Moment, trouble: Option<String> },
}

impl Tale for Event {
    fn absorb(&self, pen: &mut Pen<'_>) {
        match self {
            Event::Made(pair) => pen.add_pair(pair),
            Event::Kept(pair) => pen.pair(pair.id, |p| p.clone_from(pair)),
            Event::Removed { pair, .. } => pen.drop_pair(*pair),
            Event::Tried { pair, at, trouble } => pen.pair(*pair, |p| {
                let since = p.trouble.as_ref().map_or(*at, |t| t.since);
                p.trouble = trouble.clone().map(|text| Trouble { since, text });
            }),
        }
    }

    fn tell(&self, estate: &Estate) -> Option<Entry> {
        let named = |id: &PairId| Object::Pair(*id).name(estate);
        let (id, text) = match self {
            Event::Tried { pair, trouble: Some(text), .. } => (*pair, format!("Pair {} does not carry as it should: {text}", named(pair))),
            Event::Tried { pair, trouble: None, .. } => (*pair, format!("Pair {} carries both ways again", named(pair))),
            Event::Made(pair) => {
                let [a, b] = [0, 1].map(|n| pair.ends[n].site_name(estate));
                (pair.id, format!("{a} and {b} are paired as {}", pair.name))
            }
            Event::Kept(pair) => (pair.id, format!("Pair {} is changed", pair.name)),
            Event::Removed { pair, name } => (*pair, format!("Pair {name} is removed; its replicas stay as they are")),
        };
        Some(Entry::new("site", text, vec![id.to_string()]))
    }

    fn is_sighting(&self) -> bool {
        matches!(self, Event::Tried { .. })
    }
}
