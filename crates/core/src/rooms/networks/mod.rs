//! Switches and networks.

mod ask;
mod assess;
mod correct;
mod event;
mod step;
mod take;

pub use ask::{Ask, ChangeNetwork, ConnectSwitch, CreateNetwork};
pub use assess::create;
pub use event::Event;
pub use step::Step;
pub use take::take;

type Draft<'a> = crate::road::Draft<'a, Step>;
