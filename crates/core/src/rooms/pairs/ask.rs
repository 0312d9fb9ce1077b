//! What somebody wishes of a pair.

use super::{Step, keep};
use crate::{
    endpoint::Password,
    ids::{HostId, NetworkId, PairId, SiteId},
    permits::Act,
    road::{Ask as Asked, Draft},
    text::{Line, Lines},
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ask {
    Keep(Box<Keep>),
    /// `typed` is its name, to confirm.
    Remove { pair: PairId, typed: Line },
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Keep {
    /// None: a new one.
    pub pair: Option<PairId>,
    pub name: Line,
    pub ends: [KeepEnd; 2],
    /// Of the hours in caps.
    pub zone: Line,
    pub squeezed: bool,
    /// A line each, of names: `left = right`; `>` and `<` where it holds one way only.
    pub clusters: Lines,
    pub volumes: Lines,
    pub networks: Lines,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct KeepEnd {
    pub site: Option<SiteId>,
    pub carriers: Vec<HostId>,
    pub network: Option<NetworkId>,
    /// `40 MiB/s; Mo-Fr 07:00-18:00 10 MiB/s`
    pub cap: Line,
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        BTreeSet::from([Act::Storage])
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        match self {
            Ask::Keep(ask) => keep::keep(draft, ask),
            Ask::Remove { pair, typed } => keep::remove(draft, *pair, typed),
        }
    }

    fn password(&mut self) -> Option<&mut Password> {
        None
    }
}
