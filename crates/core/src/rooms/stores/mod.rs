//! Stores of backups: made in an empty bucket, their keys taken out, forgotten; what lies in them let go.

mod ask;
mod assess;
mod event;
mod letting;
mod step;

pub use ask::{Ask, MakeStore};
pub use event::Event;
pub use step::{Expired, Step};

type Draft<'a> = crate::road::Draft<'a, Step>;
