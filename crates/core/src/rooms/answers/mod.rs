//! What guests must answer to be well: said by people, asked of the machine itself or of a copy that proves a recovery point.

mod ask;
mod assess;
mod event;
mod step;

pub use ask::Ask;
pub use event::Event;
pub use step::{LIMIT, Step};

type Draft<'a> = crate::road::Draft<'a, Step>;
