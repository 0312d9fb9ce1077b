//! Pledges: what they are, and who has them. Whether they are kept is judged by the field *pledges*.

mod ask;
mod event;
mod give;
mod keep;
mod stands;
mod step;

pub use ask::{Ask, Keep};
pub use event::Event;
pub use step::Step;

type Draft<'a> = crate::road::Draft<'a, Step>;
