//! Keeping arrays: their addresses and sign-in, what is left on them of ours, and giving them up.

mod ask;
mod assess;
mod back;
mod event;
mod step;

pub use ask::{Access, Ask};
pub use event::Event;
pub use step::Step;

type Draft<'a> = crate::road::Draft<'a, Step>;
