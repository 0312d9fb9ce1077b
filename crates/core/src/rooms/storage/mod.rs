//! Arrays and volumes.

mod array;
mod ask;
mod assess;
mod change;
mod connect;
mod event;
mod step;

pub use ask::{Ask, ConnectArray, ConnectVolume, VolumeSource};
pub use event::Event;
pub use step::Step;

type Draft<'a> = crate::road::Draft<'a, Step>;
