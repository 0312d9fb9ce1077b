//! Placement: which host should a machine run on?   Start at [`choose`].
//!
//! Pure: takes a view and answers with the host, or with every obstacle on every host. Grows as
//! O(machines × hosts × rules). Rules: `fit`; cost: `cost`.

mod choose;
mod cost;
mod fit;
mod ledger;
mod volume;

pub use choose::{Choice, NotPlaced, Placed, choose, choose_all};
pub use cost::{cost, demand};
pub use fit::{Ask, Obstacle, clear_checks, obstacles};
pub use ledger::{Account, Ledger};
pub use volume::{Among, VolumeChoice, choose_volume, more, sized, volume_findings};
