//! Clusters of hosts.

mod ask;
mod assess;
mod event;
mod step;

pub use assess::{MOST_HOSTS, member_checks};
pub use ask::{Ask, CreateCluster};
pub use event::Event;
pub use step::Step;

type Draft<'a> = crate::road::Draft<'a, Step>;
