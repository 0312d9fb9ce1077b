//! A host that a person took out of service.

use crate::{
    ids::{MachineId, RunId},
    moment::Moment,
    text::Line,
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

/// Nothing is put on the host from `since` on, until a person puts it back in service.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Maintenance {
    pub since: Moment,
    pub reason: Line,
    /// When it should be back, where somebody said so.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until: Option<Moment>,
    /// The run that empties it; who began it is told there.
    pub run: RunId,
    /// What ran on it when it was taken out, and goes back if that is wanted.
    pub had: BTreeSet<MachineId>,
    /// Those of them that were stopped for it, because they could not leave.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub stopped: BTreeSet<MachineId>,
    /// Whether nothing was left on it when its run came to its end.
    pub empty: bool,
}
