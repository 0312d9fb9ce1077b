//! Hosts taken out of service, emptied, and put back. Composed: its steps are those of hosts, moving and machines.

mod ask;
mod back;
mod empty;

pub use ask::{Afterwards, Ask, Empty, Return};

super::composed::composed! {
    urgency: crate::road::Urgency::Maintenance;
    Host hosts,
    Move moving,
    Machine machines,
}

type Draft<'a> = crate::road::Draft<'a, Step>;
