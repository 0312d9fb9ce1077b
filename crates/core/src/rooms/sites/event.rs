//! What happens to sites.

use crate::{
    estate::{Estate, Pen, Site},
    road::{Entry, Tale},
};

#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    Added(Site),
}

impl Tale for Event {
    fn absorb(&self, pen: &mut Pen<'_>) {
        match self {
            Event::Added(site) => pen.add_site(site),
        }
    }

    fn tell(&self, _estate: &Estate) -> Option<Entry> {
        match self {
            Event::Added(site) => {
                let text = format!("Site {} was added", site.name);
                Some(Entry::new("site", text, vec![site.id.to_string()]))
            }
        }
    }

    fn is_sighting(&self) -> bool {
        false
    }
}
