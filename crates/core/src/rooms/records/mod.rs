//! Records on volumes that no machine is held for: a machine is held for one from now on, or it is taken from its volume.

mod ask;
mod event;
mod forget;
mod register;
mod step;

pub use ask::{Ask, Records};
pub use event::Event;
pub use register::Differs;
pub use step::Step;

type Draft<'a> = crate::road::Draft<'a, Step>;
