//! Jobs: whose machines are backed up again and again, where to, and how many points stay. They are carried out by *backups*.

mod ask;
mod event;
mod foretold;
mod habits;
mod keep;
mod step;
mod week;

pub use ask::{Ask, How, Keep};
pub use event::Event;
pub use foretold::Foretold;
pub use keep::PROVEN_AT_ONCE;
pub use step::Step;
pub use week::{Due, Laid, lay, to_come};

type Draft<'a> = crate::road::Draft<'a, Step>;
