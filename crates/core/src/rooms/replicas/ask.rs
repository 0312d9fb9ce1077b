//! What somebody wishes of a replica.

use super::{Step, assess};
use crate::{
    endpoint::Password,
    ids::MachineId,
    permits::Act,
    road::{Ask as Asked, Draft},
    text::Line,
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ask {
    /// It follows its original no more, and is a machine like any other. `typed` is its name, to confirm.
    Free { machine: MachineId, typed: Line },
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        BTreeSet::from([Act::Machines])
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        let Ask::Free { machine, typed } = self;
        assess::free(draft, *machine, typed);
    }

    fn password(&mut self) -> Option<&mut Password> {
        None
    }
}
