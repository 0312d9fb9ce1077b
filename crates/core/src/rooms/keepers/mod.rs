//! Keepers: who decides a cluster's recovery when its manager can't, placed on hosts, moved, and taken away (rules, section 4).

mod ask;
mod choose;
mod event;
mod place;
mod step;

pub use ask::{Ask, Place};
pub use choose::{WANTED, choose, quorum};
pub use event::Event;
pub use step::Step;

type Draft<'a> = crate::road::Draft<'a, Step>;
