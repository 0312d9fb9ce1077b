//! What somebody wishes to know of a guest.

use super::{Step, assess};
use crate::{
    endpoint::Password,
    ids::MachineId,
    permits::Act,
    road::{Ask as Asked, Draft},
    text::Lines,
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ask {
    /// What these must answer from now on: one question on each line; nothing: none.
    Must {
        machines: Vec<MachineId>,
        questions: Lines,
    },
    /// They are asked now.
    Now { machines: Vec<MachineId> },
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        BTreeSet::from([Act::Machines])
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        match self {
            Ask::Must { machines, questions } => assess::must(draft, machines, questions),
            Ask::Now { machines } => assess::now(draft, machines),
        }
    }

    fn password(&mut self) -> Option<&mut Password> {
        None
    }
}
