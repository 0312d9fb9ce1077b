//! Who looked at consoles and screens.

mod event;

pub use event::{ConsoleOf, Event};
