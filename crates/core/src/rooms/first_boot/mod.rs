//! First-boot documents: what guests are told once, kept in versions that are never changed.

mod ask;
mod event;
mod keep;
mod remove;
mod step;

pub use ask::{Ask, Keep};
pub use event::Event;
pub use step::Step;

type Draft<'a> = crate::road::Draft<'a, Step>;
