//! Arrays and volumes.

mod array;
mod ask;
mod assess;
mod change;
mod connect;
mod event;
mod pooled;
mod step;
mod take;

pub use ask::{Ask, ConnectArray, ConnectVolume, VolumeSource};
pub use event::{Event, PoolTurn};
pub use pooled::joins;
pub use step::Step;
pub use take::{Taken, take};

type Draft<'a> = crate::road::Draft<'a, Step>;
