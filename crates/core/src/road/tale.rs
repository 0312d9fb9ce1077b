//! What an event answers: how it changes the estate, and how it is told.

use crate::estate::{Estate, Pen};
use serde::{Deserialize, Serialize};
use std::fmt::Debug;

/// The kinds of lines that there are.
pub const KINDS: [&str; 13] = [
    "run", "machine", "host", "cluster", "site", "edit", "console", "storage", "network", "people",
    "history", "failure", "pledge",
];

/// A line of the Logbook.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Entry {
    pub kind: String,
    pub text: String,
    /// Identifiers of what it is about, such as `machine-7`.
    pub about: Vec<String>,
}

impl Entry {
    pub fn new(kind: &str, text: impl Into<String>, about: Vec<String>) -> Self {
        debug_assert!(KINDS.contains(&kind), "{kind} can't be filtered by");
        Entry {
            kind: kind.into(),
            text: text.into(),
            about,
        }
    }
}

/// Something that happened.
pub trait Tale: Debug + Clone + PartialEq {
    /// Writes what is different now. An event about something that is gone writes nothing.
    fn absorb(&self, pen: &mut Pen<'_>);
    /// In words, with the names that things have in `estate`; none for what is not worth a line.
    fn tell(&self, estate: &Estate) -> Option<Entry>;
    /// Whether it is worth a line only where it changed something: the watcher and a run may both have seen it.
    fn is_sighting(&self) -> bool;
}
