//! Who shall be backed up, and where to.

use super::{Step, assess};
use crate::{
    endpoint::Password,
    ids::{MachineId, StoreId},
    permits::Act,
    road::{Ask as Asked, Draft},
    rooms::snapshots::Quiet,
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ask {
    Now(BackUp),
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct BackUp {
    pub machines: Vec<MachineId>,
    pub store: Option<StoreId>,
    pub quiet: Quiet,
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        BTreeSet::from([Act::Machines])
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        match self {
            Ask::Now(ask) => assess::back_up(draft, ask),
        }
    }

    fn password(&mut self) -> Option<&mut Password> {
        None
    }
}
