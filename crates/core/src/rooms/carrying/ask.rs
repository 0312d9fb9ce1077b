//! What somebody wishes to be carried.

use super::{Step, assess};
use crate::{
    endpoint::Password,
    ids::{MachineId, StoreId},
    permits::Act,
    road::{Ask as Asked, Draft},
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;
use uuid::Uuid;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ask {
    Copy(CopySnapshot),
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        BTreeSet::from([Act::Machines])
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        match self {
            Ask::Copy(ask) => assess::snapshot(draft, ask),
        }
    }

    fn password(&mut self) -> Option<&mut Password> {
        None
    }
}

/// A snapshot that is there becomes a recovery point in a store, and stays.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct CopySnapshot {
    pub machine: MachineId,
    pub snapshot: Option<Uuid>,
    pub store: Option<StoreId>,
}
