//! What somebody says to a plan that is being carried out.

use super::{Step, answer};
use crate::{
    endpoint::Password,
    ids::PassageId,
    permits::Act,
    road::{Ask as Asked, Draft},
    text::Line,
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ask {
    /// Whether it is so, of what is waited for.
    Answer {
        passage: PassageId,
        mark: u64,
        good: bool,
        note: Line,
    },
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        BTreeSet::from([Act::Machines])
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        let Ask::Answer { passage, mark, good, note } = self;
        answer::answer(draft, *passage, *mark, (*good, note));
    }

    fn password(&mut self) -> Option<&mut Password> {
        None
    }
}
