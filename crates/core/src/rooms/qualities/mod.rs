//! What volumes offer, as a person states it: `mirrored`, `fast`. Machines ask for qualities, never for volumes by name.

mod ask;
mod assess;
mod event;
mod step;

pub use ask::Ask;
pub use event::Event;
pub use step::Step;

type Draft<'a> = crate::road::Draft<'a, Step>;
