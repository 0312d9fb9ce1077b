//! Hosts on which nothing is installed: their controllers mount what they start from, they install themselves, and are taken
//! over (rules, sections 9 and 29).

mod ask;
mod assess;
mod correct;
mod event;
mod step;
mod time;

pub use ask::{Ask, BareHost, Install};
pub use assess::{New, install};
pub use event::Event;
pub use step::Step;
pub use time::at_source;

/// The port of agents.
const AGENT: u16 = 7443;

type Draft<'a> = crate::road::Draft<'a, Step>;
