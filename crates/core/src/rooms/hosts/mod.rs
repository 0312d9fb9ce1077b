//! Hosts: claimed, looked at, switched off and on, handed back.

mod ask;
mod assess;
mod event;
mod power;
mod step;
mod test;

pub use ask::{Ask, ClaimHosts, HostPower};
pub use event::Event;
pub(crate) use power::power;
pub use step::Step;

type Draft<'a> = crate::road::Draft<'a, Step>;
