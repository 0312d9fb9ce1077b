//! Images that machines boot from.

mod ask;
mod assess;
mod event;
mod step;

pub use ask::{AddImage, Ask};
pub use event::Event;
pub use step::Step;

type Draft<'a> = crate::road::Draft<'a, Step>;
