//! What happens when a host joins is what happens in the rooms that it passes through.

use crate::{
    estate::{Estate, Pen},
    road::{Entry, Tale},
    rooms::{clusters, networks, storage},
};

#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    Cluster(clusters::Event),
    Storage(storage::Event),
    Network(networks::Event),
}

impl Tale for Event {
    fn absorb(&self, pen: &mut Pen<'_>) {
        match self {
            Event::Cluster(event) => event.absorb(pen),
            Event::Storage(event) => event.absorb(pen),
            Event::Network(event) => event.absorb(pen),
        }
    }

    fn tell(&self, estate: &Estate) -> Option<Entry> {
        match self {
            Event::Cluster(event) => event.tell(estate),
            Event::Storage(event) => event.tell(estate),
            Event::Network(event) => event.tell(estate),
        }
    }

    fn is_sighting(&self) -> bool {
        match self {
            Event::Cluster(event) => event.is_sighting(),
            Event::Storage(event) => event.is_sighting(),
            Event::Network(event) => event.is_sighting(),
        }
    }
}
