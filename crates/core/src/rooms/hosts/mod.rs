//! Hosts: claimed, looked at, switched off and on, handed back.

mod ask;
mod assess;
mod event;
mod power;
mod step;
mod take;
mod test;

pub use ask::{Ask, ClaimHosts, HostPower};
pub use event::{Event, NOT_KNOWN};
pub(crate) use power::power;
pub use step::Step;
pub use take::{Take, ran_on, take};
pub use test::proves;

type Draft<'a> = crate::road::Draft<'a, Step>;
