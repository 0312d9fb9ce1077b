//! Machines are backed up: a snapshot of each is the mark, movers carry what changed into a store, and the mark goes; a
//! job does that again and again, and lets old points go. Composed: its steps are those of snapshots, of movers and of stores.

mod ask;
mod assess;
mod due;

pub use ask::{Ask, BackUp, JobRun};
pub(crate) use assess::{Mark, Marked, Still, marks};
pub(crate) use due::{able, begins};

super::composed::composed! {
    urgency: crate::road::Urgency::Ordinary;
    Snap snapshots,
    Carry carrying,
    Store stores,
    ;
    Job jobs,
}

type Draft<'a> = crate::road::Draft<'a, Step>;
