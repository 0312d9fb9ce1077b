//! A password for the console of a machine, where a team wants one: whoever opens console or screen must know it, whatever their role.

mod ask;
mod event;
mod lock;
mod step;

pub use ask::Ask;
pub use event::Event;
pub use step::Step;

type Draft<'a> = crate::road::Draft<'a, Step>;
