//! Failures of hosts, and what became of their machines: told by whoever guards a cluster, never wished.

mod event;

pub use event::Event;
