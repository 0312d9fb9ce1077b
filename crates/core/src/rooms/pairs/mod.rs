//! Pairs: which two sites, which hosts carry, how much of the line they take, and what is what at the other site.

mod ask;
mod event;
mod keep;
pub mod maps;
mod step;

pub use ask::{Ask, Keep, KeepEnd};
pub use event::Event;
pub use step::Step;

type Draft<'a> = crate::road::Draft<'a, Step>;
