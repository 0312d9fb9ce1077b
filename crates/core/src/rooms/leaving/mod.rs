//! Hosts leave their cluster for good, in one run: emptied, their keepers moved, cut off from storage and networks, handed back
//! (rules, section 29). Composed: its steps are those of the rooms that it passes through.

mod ask;
mod assess;

pub use ask::{Ask, Leave};

super::composed::composed! {
    urgency: crate::road::Urgency::Maintenance;
    Host hosts,
    Move moving,
    Machine machines,
    Keeper keepers,
    Storage storage,
    Network networks,
    Cluster clusters,
    Name naming,
}

type Draft<'a> = crate::road::Draft<'a, Step>;
