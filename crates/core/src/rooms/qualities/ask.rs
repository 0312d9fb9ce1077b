//! Stating what a volume offers.

use super::{Step, assess};
use crate::{
    text::Line,
    endpoint::Password,
    ids::VolumeId,
    permits::Act,
    road::{Ask as Asked, Draft},
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ask {
    /// Replaces everything that was stated of it.
    State {
        volume: VolumeId,
        qualities: BTreeSet<Line>,
    },
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        BTreeSet::from([Act::Storage])
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        match self {
            Ask::State { volume, qualities } => assess::state(draft, *volume, qualities),
        }
    }

    fn password(&mut self) -> Option<&mut Password> {
        None
    }
}
