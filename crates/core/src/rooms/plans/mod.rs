//! Recovery plans: who is brought up at the other site, in which order, and what lies between. Carried out by *drilling*.

mod ask;
mod differ;
mod event;
mod keep;
mod read;
mod step;

pub use ask::{Ask, Keep, KeepStage};
pub use event::Event;
pub use read::{names, networks, thens};
pub use step::Step;

type Draft<'a> = crate::road::Draft<'a, Step>;
