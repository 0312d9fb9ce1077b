//! Templates: versions made from machines and snapshots, sealed on the copy; removed when nothing lies on them any more.

mod ask;
mod event;
mod make;
mod remove;
mod step;
mod whole;

pub use ask::{Ask, Make, Remove};
pub use event::Event;
pub use step::Step;

type Draft<'a> = crate::road::Draft<'a, Step>;
