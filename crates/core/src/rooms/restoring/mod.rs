//! A recovery point comes back to a machine that is there: over its disks, or as disks beside them. Bytes come while it runs; it
//! stands still only while they are put in place. Composed: its steps are those of movers, of snapshots, and of power.
//!
//! A machine of its own is made of a point as of anything else that is copied: see `machines`.

mod ask;
mod back;
mod disks;

pub use ask::{Ask, BringDisks, PutBack};

super::composed::composed! {
    urgency: crate::road::Urgency::Ordinary;
    Carry carrying,
    Snap snapshots,
    Power machines,
}

type Draft<'a> = crate::road::Draft<'a, Step>;
