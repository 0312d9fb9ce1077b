//! Movers carry the bytes of disks: from a snapshot of a machine to a store, and from there to the volume of a machine.

mod ask;
mod assess;
mod event;
mod step;

pub use ask::{Ask, CopySnapshot};
pub(crate) use assess::{Copies, changed, chosen, held};
pub use event::Event;
pub use step::{Placed, Step};

type Draft<'a> = crate::road::Draft<'a, Step>;
