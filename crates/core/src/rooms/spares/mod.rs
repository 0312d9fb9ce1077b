//! Pools of machines that are kept ready: what they shall be, who gets one, and who gives one back. Nothing is told to any device
//! here; what is missing is made, and what is over thrown away, by *restocking*.

mod ask;
mod event;
mod hand;
mod keep;
mod step;

pub use ask::{Ask, Keep};
pub use event::Event;
pub use step::Step;

type Draft<'a> = crate::road::Draft<'a, Step>;
