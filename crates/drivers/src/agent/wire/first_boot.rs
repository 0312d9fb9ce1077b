//! What a guest says came of its first boot.

use super::limited;
use serde::Deserialize;
use uuid::Uuid;
use zastrugi_core::estate::Applied;

/// More lines than a document can cause are cut.
const MOST: usize = 64;

#[derive(Debug, Deserialize)]
pub(crate) struct WireApplied {
    /// For which machine it was: a guest whose disk is a copy may still hold what its original did.
    instance: String,
    #[serde(default)]
    done: Vec<String>,
    #[serde(default)]
    failed: Vec<String>,
}

impl WireApplied {
    pub(crate) fn read(self, machine: Uuid) -> Option<Box<Applied>> {
        (self.instance == machine.to_string()).then_some(())?;
        let lines = |all: Vec<String>| all.into_iter().take(MOST).map(limited).collect();
        Some(Box::new(Applied {
            done: lines(self.done),
            failed: lines(self.failed),
        }))
    }
}
