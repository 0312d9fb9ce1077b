//! Who comes and goes, who may what, and where calls may go: told in the Logbook, kept as belongings beside the journal.

mod event;

pub use event::Event;
