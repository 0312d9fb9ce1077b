//! Disks that the nodes of a guest cluster have at once: made and given to all of them, healed where one has it otherwise, given up.

mod ask;
mod end;
mod event;
mod make;
mod nodes;
mod step;

pub use ask::{Ask, Make, Source};
pub use event::{Done, Event, about};
pub use step::Step;

type Draft<'a> = crate::road::Draft<'a, Step>;
