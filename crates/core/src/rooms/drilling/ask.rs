//! Which plan shall be drilled.

use super::{Step, drill};
use crate::{
    endpoint::Password,
    ids::PlanId,
    permits::Act,
    road::{Ask as Asked, Draft},
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ask {
    Drill(Drill),
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Drill {
    pub plan: PlanId,
    /// Its copies stay until a person says that they were looked at.
    pub looked_at: bool,
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        BTreeSet::from([Act::Machines])
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        let Ask::Drill(ask) = self;
        drill::drill(draft, ask);
    }

    fn password(&mut self) -> Option<&mut Password> {
        None
    }
}
