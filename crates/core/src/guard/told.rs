//! What a guard found and did, as it is written down: in the manager's database, or in a keeper's journal until the manager
//! takes it in.

use super::Note;
use crate::{
    ids::{HostId, MachineId},
    moment::{Moment, Span},
};
use serde::{Deserialize, Serialize};

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Told {
    Note(Note),
    /// A host's controller is about to be told to switch it off.
    Switching {
        host: HostId,
    },
}

/// A line of a keeper's journal.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Line {
    /// From 1, without gaps.
    pub index: u64,
    /// When it happened, by the clock of the host that wrote it.
    pub at: Moment,
    pub told: Told,
    /// The machines that were then on the host that it is about: whoever reads it later sees them elsewhere.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub on: Vec<MachineId>,
    /// How long it was foretold to take until all of them are up.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub foretold: Option<Span>,
}
