//! Replicas: brought up to date by movers, from what a snapshot of the original holds, and made machines of their own.

mod ask;
mod assess;
mod event;
mod step;

pub use ask::Ask;
pub(crate) use assess::freed;
pub use event::{Event, Followed};
pub use step::{Member, Onto, Settle, Step};

type Draft<'a> = crate::road::Draft<'a, Step>;
