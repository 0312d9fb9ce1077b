//! Stores of backups: made in an empty bucket or export, or opened where one is there, looked through, their keys taken out, forgotten; what lies in them let go.

mod ask;
mod assess;
mod event;
mod letting;
mod read;
mod step;

pub use ask::{Ask, MakeStore};
pub use event::{Event, FoundPoint, Read};
pub use step::{Expired, Step};

type Draft<'a> = crate::road::Draft<'a, Step>;
