//! Machines are backed up: a snapshot of each is the mark, movers carry what changed into a store, and the mark goes. Composed: its
//! steps are those of snapshots and of movers.

mod ask;
mod assess;

pub use ask::{Ask, BackUp};

super::composed::composed! {
    urgency: crate::road::Urgency::Ordinary;
    Snap snapshots,
    Carry carrying,
}

type Draft<'a> = crate::road::Draft<'a, Step>;
