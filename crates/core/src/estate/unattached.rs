//! Disks that no machine has: detached and kept, or deleted and still recoverable.

use super::{Machine, Provisioning};
use crate::{
    moment::{Moment, Span},
    units::Bytes,
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use uuid::Uuid;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SpareDisk {
    pub size: Bytes,
    pub provisioning: Provisioning,
    /// Room that it takes on its volume.
    pub takes: Bytes,
    /// The machine that had it last, by the name it had then.
    pub had: String,
    pub since: Moment,
    /// When somebody deleted it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub deleted: Option<Moment>,
}

impl SpareDisk {
    pub fn recoverable_until(&self) -> Option<Moment> {
        self.deleted
            .map(|at| at.plus(Span::days(Machine::KEPT_DAYS)))
    }
}

/// All of a volume, as hosts that mount it tell.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Unattached {
    /// Grows with every change; what was said under a lower number was said before.
    pub seq: u64,
    pub disks: BTreeMap<Uuid, SpareDisk>,
}

impl Unattached {
    /// Nothing was ever said of any.
    pub fn is_unheard(&self) -> bool {
        self.seq == 0
    }
}
