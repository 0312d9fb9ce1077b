//! Movers carry the bytes of disks: from a snapshot of a machine to a store.

mod ask;
mod assess;
mod event;
mod step;

pub use ask::{Ask, CopySnapshot};
pub(crate) use assess::{Copies, chosen};
pub use event::Event;
pub use step::Step;

type Draft<'a> = crate::road::Draft<'a, Step>;
