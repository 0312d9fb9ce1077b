//! Service fronts: an address for machines behind a load balancer (rules, section 31). Members are taken out before they stop or
//! move by whoever does that; here is what a front is, and that its balancer has it so.

mod ask;
mod assess;
mod event;
mod step;

pub use ask::{Ask, ConnectBalancer, PutFront};
pub use assess::next_address;
pub use event::{Event, Turn};
pub use step::Step;

type Draft<'a> = crate::road::Draft<'a, Step>;
