//! What somebody wishes of a recovery plan.

use super::{Step, keep};
use crate::{
    endpoint::Password,
    estate::Way,
    ids::PlanId,
    moment::Span,
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
    /// It leads the other way: what is missing for that is said.
    Turn { plan: PlanId },
    /// Reports of how it was carried out stay.
    Remove { plan: PlanId, typed: Line },
}

/// As it is typed: names stand for what they name.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Keep {
    /// None: a new one.
    pub plan: Option<PlanId>,
    pub name: Line,
    pub way: Option<Way>,
    pub stages: Vec<KeepStage>,
    /// A line each: `ferry = drill-ferry`.
    pub drills: Lines,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct KeepStage {
    /// Where it stands in the sheet: an empty one before it is none.
    pub row: usize,
    pub name: Line,
    /// Names of machines.
    pub named: Lines,
    /// A label expression; empty: whoever is named alone.
    pub who: Line,
    pub in_turn: bool,
    pub limit: Span,
    /// A line each: what lies between it and the next.
    pub then: Lines,
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        BTreeSet::from([Act::Plans])
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        match self {
            Ask::Keep(ask) => keep::keep(draft, ask),
            Ask::Turn { plan } => keep::turn(draft, *plan),
            Ask::Remove { plan, typed } => keep::remove(draft, *plan, typed),
        }
    }

    fn password(&mut self) -> Option<&mut Password> {
        None
    }
}
