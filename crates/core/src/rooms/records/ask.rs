//! What somebody wishes of records.

use super::{Step, forget, register};
use crate::{
    endpoint::Password,
    ids::VolumeId,
    permits::Act,
    road::{Ask as Asked, Draft},
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;
use uuid::Uuid;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ask {
    /// A machine is held for each; one that is held already has its disks there from now on.
    Register(Records),
    /// They are taken from their volume; their disks stay there, unattached.
    Forget(Records),
}

/// Some of one volume.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Records {
    pub volume: VolumeId,
    pub records: Vec<Uuid>,
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        BTreeSet::from([Act::Machines])
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        match self {
            Ask::Register(ask) => register::register(draft, ask),
            Ask::Forget(ask) => forget::forget(draft, ask),
        }
    }

    fn password(&mut self) -> Option<&mut Password> {
        None
    }
}
