//! What begins by itself when it is due.

use super::{Step, assess};
use crate::{
    endpoint::Password,
    ids::ScheduleId,
    permits::Act,
    road::{Ask as Asked, Draft},
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ask {
    Take { schedule: ScheduleId },
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        BTreeSet::from([Act::Machines])
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        match self {
            Ask::Take { schedule } => assess::take(draft, *schedule),
        }
    }

    fn password(&mut self) -> Option<&mut Password> {
        None
    }
}
