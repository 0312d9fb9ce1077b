//! What somebody wishes of consoles.

use super::{Step, lock};
use crate::{
    endpoint::Password,
    ids::MachineId,
    permits::Act,
    road::{Ask as Asked, Draft},
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ask {
    Lock {
        machines: Vec<MachineId>,
        password: Password,
        /// No password any more.
        open: bool,
    },
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        BTreeSet::from([Act::Machines])
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        match self {
            Ask::Lock { machines, password, open } => lock::lock(draft, machines, *password, *open),
        }
    }

    fn password(&mut self) -> Option<&mut Password> {
        match self {
            Ask::Lock { password, .. } => Some(password),
        }
    }
}
