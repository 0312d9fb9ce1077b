//! Snapshots that are taken by a schedule: what it shall be. They are taken by *scheduled*.

mod ask;
mod event;
mod keep;
mod step;

pub use ask::{Ask, Keep};
pub use event::Event;
pub use step::Step;

type Draft<'a> = crate::road::Draft<'a, Step>;
