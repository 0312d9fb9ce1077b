//! What is done between and around the stages of a recovery plan, however it is carried out: stages are opened and closed, people
//! are asked, time passes, commands run in guests. What came of it is kept as a passage.

mod ask;
mod answer;
mod event;
mod planned;
mod step;

pub use ask::Ask;
pub use event::{Event, Reached};
pub(crate) use planned::{Laid, Marks, Up, awaited, begins, expected, expects};
pub use step::{Of, Step};

type Draft<'a> = crate::road::Draft<'a, Step>;
