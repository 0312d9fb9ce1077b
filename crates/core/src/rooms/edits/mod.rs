//! Plain edits of anything.

mod ask;
mod assess;
mod event;
mod grown;
mod live;
mod step;

pub use ask::{Ask, Set, Target};
pub(crate) use assess::edit;
pub use event::Event;
pub use step::Step;

type Draft<'a> = crate::road::Draft<'a, Step>;
