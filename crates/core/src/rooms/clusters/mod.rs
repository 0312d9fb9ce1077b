//! Clusters of hosts.

mod ask;
mod assess;
mod between;
mod event;
mod step;

pub use assess::{MOST_HOSTS, check_name, member_checks, of_hosts};
pub use ask::{Ask, CreateCluster};
pub use between::{bears, ends, probe as between};
pub use event::Event;
pub use step::Step;

type Draft<'a> = crate::road::Draft<'a, Step>;
