//! The pages: `frame` is what all have in common (shell, guards, sheets, live stream), `places` has a folder for each
//! place with its routes, view structs and templates. A route is guard → question or proposal → desk → view.

mod frame;
mod places;

pub use frame::server::{WebSettings, build};
