//! Disks and cards of machines: added, taken out, attached elsewhere; and the disks that no machine has.

mod ask;
mod cards;
mod change;
mod event;
mod spare;
mod step;

pub use ask::{Ask, CardWish, Change, DiskWish, Spare, SpareAct};
pub use event::{Done, Event};
pub use step::{Card, Step};

type Draft<'a> = crate::road::Draft<'a, Step>;
