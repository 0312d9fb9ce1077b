//! A disk of one machine is copied to another: over one of its disks, which holds nothing else afterwards, or as one more.

mod ask;
mod assess;
mod event;
mod step;

pub use ask::{Ask, CopyDisk};
pub use event::Event;
pub use step::Step;

type Draft<'a> = crate::road::Draft<'a, Step>;
