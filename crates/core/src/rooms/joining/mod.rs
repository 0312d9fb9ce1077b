//! A claimed host joins a cluster that is there: with its volumes and its networks, in one run. Composed: its steps are those of
//! clusters, storage and networks.

mod ask;
mod assess;
mod event;
mod step;

pub use ask::Ask;
pub use event::Event;
pub use step::Step;

type Draft<'a> = crate::road::Draft<'a, Step>;
