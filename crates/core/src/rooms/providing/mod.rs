//! Machines on a volume that does not exist yet: it is made in a pool, connected to all hosts of their cluster, and then they are
//! created on it. Composed: its steps are those of storage and of machines.

mod ask;
mod assess;

pub use ask::{Ask, Provide};
pub use assess::usual;

super::composed::composed! {
    urgency: crate::road::Urgency::Ordinary;
    Storage storage,
    Machine machines,
}

type Draft<'a> = crate::road::Draft<'a, Step>;
