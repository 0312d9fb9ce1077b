//! The pages: `front` listens, `frame` is what all have in common (shell, guards, sheets, live stream), `places` has a folder for each
//! place with its routes, view structs and templates. A route is guard → question or proposal → desk → view.

mod frame;
mod front;
mod places;

pub use frame::climate::{Climate, Gust, Sky, Weather};
pub use frame::server::{WebSettings, pages};
pub use front::{Pace, ServeError, serve};

/// Every sheet that a page offers, with what somebody must be allowed to do to open it: for whoever checks that none is
/// forgotten.
pub fn sheets() -> Vec<(&'static str, zastrugi_core::permits::Act)> {
    places::sheets().map(|s| (s.word, s.act)).collect()
}
