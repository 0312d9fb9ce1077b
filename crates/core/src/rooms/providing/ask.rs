//! What somebody wishes who has room in a pool and on no volume.

use super::{Step, assess};
use crate::{
    endpoint::Password,
    ids::ArrayId,
    permits::Act,
    road::{Ask as Asked, Draft},
    rooms::machines::CreateMachines,
    text::Line,
    units::Bytes,
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ask {
    Provide(Box<Provide>),
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Provide {
    /// Their volume is the new one, whatever it says there.
    pub machines: CreateMachines,
    pub array: Option<ArrayId>,
    pub pool: Line,
    /// What the volume is called.
    pub name: Line,
    pub size: Bytes,
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        BTreeSet::from([Act::Storage, Act::Machines])
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        match self {
            Ask::Provide(ask) => assess::provide(draft, ask),
        }
    }

    fn password(&mut self) -> Option<&mut Password> {
        None
    }
}
