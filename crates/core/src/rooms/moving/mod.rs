//! Machines on their way to other hosts, and disks to other volumes.

mod ask;
mod assess;
mod disks;
mod event;
mod line;
mod step;

pub use ask::{Ask, DisksTo, Move};
pub(crate) use assess::relocate;
pub use line::Line;
pub use event::Event;
pub use step::Step;

type Draft<'a> = crate::road::Draft<'a, Step>;
