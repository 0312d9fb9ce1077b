//! Sites come into being with the first thing that is there.

mod event;

pub use event::Event;
