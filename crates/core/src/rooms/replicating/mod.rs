//! Machines are replicated over a pair by a job: the first time a replica is made, then each time a snapshot is the mark, movers bring
//! what changed, and the mark goes. A replica is started by force. Composed: its steps are those of machines, of snapshots and of
//! replicas.

mod ask;
mod due;
mod force;
mod once;
mod place;

pub use ask::{Ask, Force};
pub(crate) use once::{Brought, Once};
pub(crate) use place::{Free, names};

super::composed::composed! {
    urgency: crate::road::Urgency::Ordinary;
    Machine machines,
    Snap snapshots,
    Replica replicas,
    ;
    Job jobs,
}

type Draft<'a> = crate::road::Draft<'a, Step>;
