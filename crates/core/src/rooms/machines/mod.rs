//! Machines: created, powered, deleted, brought back, removed for good.

mod ask;
mod brought;
mod copied;
mod create;
mod event;
mod firmware;
mod lifecycle;
mod pools;
mod power;
mod premise;
mod promised;
mod recover;
mod step;
mod taken;
mod told;

pub use ask::{AfterGrace, Ask, Back, Copied, Taken, CreateMachines, NewDisk, NewNic, PowerAct};
pub use event::Event;
pub(crate) use create::create;
pub(crate) use power::power;
pub use step::Step;

type Draft<'a> = crate::road::Draft<'a, Step>;
