//! What somebody wishes of a pool.

use super::{Step, hand, keep};
use crate::{
    endpoint::Password,
    ids::{ClusterId, FirstBootId, MachineId, NetworkId, SparePoolId, TemplateId},
    permits::Act,
    road::{Ask as Asked, Draft},
    text::Line,
    units::Bytes,
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ask {
    Keep(Box<Keep>),
    /// The oldest spares that are ready.
    HandOut { pool: SparePoolId, count: u32, to: Line },
    /// They are thrown away.
    GiveBack { machines: Vec<MachineId> },
    /// It is kept no more. Those that are handed out stay, as any other machine.
    End { pool: SparePoolId },
}

/// How a pool shall be.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Keep {
    /// None: a new one.
    pub pool: Option<SparePoolId>,
    pub name: Line,
    pub template: Option<TemplateId>,
    pub cluster: Option<ClusterId>,
    pub pattern: Line,
    pub spare: u32,
    pub most: u32,
    pub vcpus: u32,
    pub memory: Bytes,
    pub dependent: bool,
    pub networks: Vec<Option<NetworkId>>,
    pub document: Option<FirstBootId>,
    pub ends_off: bool,
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        BTreeSet::from([Act::Machines])
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        match self {
            Ask::Keep(ask) => keep::keep(draft, ask),
            Ask::HandOut { pool, count, to } => hand::out(draft, *pool, *count, to),
            Ask::GiveBack { machines } => hand::back(draft, machines),
            Ask::End { pool } => keep::end(draft, *pool),
        }
    }

    fn password(&mut self) -> Option<&mut Password> {
        None
    }
}
