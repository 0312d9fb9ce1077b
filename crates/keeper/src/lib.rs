//! Whoever guards a cluster, and the keeper: a small process without a database that does so when the manager can't.
//!
//! [`Post`] is the guard at its post: what is seen goes in, what it orders is carried out, what it tells is written in a
//! [`Book`]. The manager's book is its database; a keeper's is the journal on the volume where keepers agree. [`keep`] is the
//! whole keeper: it hears the hosts of its cluster, and stands at the post while it holds the [`Seat`].

mod book;
mod follow;
mod keeper;
mod ledger;
mod post;
mod posts;
mod quorum;
mod seat;

pub use book::{Book, Written};
pub use keeper::{Given, Settings, keep};
pub use post::Post;
pub use posts::Posts;
pub use quorum::{Good, Quorum};
pub use seat::{Lease, Seat};

use std::time::{SystemTime, UNIX_EPOCH};
use zastrugi_core::moment::Moment;

/// The wall clock.
fn now() -> Moment {
    let since = SystemTime::now()
        .duration_since(UNIX_EPOCH)
        .unwrap_or_default();
    Moment(i64::try_from(since.as_millis()).unwrap_or(i64::MAX))
}
