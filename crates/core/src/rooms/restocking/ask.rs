//! What begins by itself as soon as something is due.

use super::{Step, assess};
use crate::{
    endpoint::Password,
    ids::SparePoolId,
    permits::Act,
    road::{Ask as Asked, Draft},
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ask {
    Follow { pool: SparePoolId },
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        BTreeSet::from([Act::Machines])
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        match self {
            Ask::Follow { pool } => assess::follow(draft, *pool),
        }
    }

    fn password(&mut self) -> Option<&mut Password> {
        None
    }
}
