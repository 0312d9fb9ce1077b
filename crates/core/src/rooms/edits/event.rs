//! What was edited.

use super::{Set, Target};
use crate::{
    estate::{Estate, Pen},
    road::{Entry, Tale},
};

#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    Edited { target: Target, sets: Vec<Set> },
}

impl Tale for Event {
    fn absorb(&self, pen: &mut Pen<'_>) {
        let Event::Edited { target, sets } = self;
        match target {
            Target::Machine(id) => pen.machine(*id, |m| sets.iter().for_each(|s| s.on_machine(m))),
            Target::Host(id) => pen.host(*id, |h| sets.iter().for_each(|s| s.on_host(h))),
            Target::Cluster(id) => pen.cluster(*id, |c| sets.iter().for_each(|s| s.on_cluster(c))),
            Target::Network(id) => pen.network(*id, |n| sets.iter().for_each(|s| s.on_network(n))),
            Target::Volume(id) => pen.volume(*id, |v| sets.iter().for_each(|s| s.on_volume(v))),
            Target::Image(id) => pen.image(*id, |i| sets.iter().for_each(|s| s.on_image(i))),
        }
    }

    fn tell(&self, estate: &Estate) -> Option<Entry> {
        let Event::Edited { target, sets } = self;
        let what = sets.iter().map(Set::tell).collect::<Vec<_>>().join("; ");
        let text = format!("{}: {what}", target.name(estate));
        Some(Entry::new("edit", text, vec![target.to_string()]))
    }

    fn is_sighting(&self) -> bool {
        false
    }
}
