//! Names of machines and hosts in DNS: where they are entered, and that they follow the machines (RFC 2136; rules, section 9).

mod ask;
mod assess;
mod event;
mod step;

pub use ask::{Ask, SetNames};
pub use assess::{NewName, asked, free, of_hosts, same, servers};
pub use event::Event;
pub use step::Step;

type Draft<'a> = crate::road::Draft<'a, Step>;
