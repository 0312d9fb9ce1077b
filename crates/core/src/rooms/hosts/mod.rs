//! Hosts: claimed, looked at, handed back.

mod ask;
mod assess;
mod event;
mod step;

pub use ask::{Ask, ClaimHosts};
pub use event::Event;
pub use step::Step;

type Draft<'a> = crate::road::Draft<'a, Step>;
