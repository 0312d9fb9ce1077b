//! What somebody wishes of a job.

use super::{Step, keep};
use crate::{
    endpoint::Password,
    estate::{Goal, Order},
    ids::JobId,
    moment::{Moment, Span},
    permits::Act,
    road::{Ask as Asked, Draft},
    text::{Line, Note},
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
#[expect(clippy::large_enum_variant, reason = "there is one for each open sheet, and no list of them")]
pub enum Ask {
    Keep(Keep),
    Pause { job: JobId, paused: bool },
    /// Points that it made stay.
    Remove { job: JobId },
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Keep {
    /// None: a new one.
    pub job: Option<JobId>,
    pub name: Line,
    /// A label expression.
    pub who: Note,
    #[serde(alias = "store")]
    pub to: Option<Goal>,
    /// A recurrence rule.
    pub rule: Line,
    pub zone: Line,
    /// `last 3, 7 days, 4 weeks`
    pub keeps: Line,
    pub quiet: bool,
    /// So often the newest point of each machine is proven; none: never.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub proves: Option<Span>,
    /// When it is first due; none: as its rule says from now on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub begins: Option<Moment>,
    #[serde(default)]
    pub how: How,
}

/// What most jobs leave as it is.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct How {
    /// What it takes of the line, by hours of the week.
    pub cap: Line,
    pub leaves_out: bool,
    /// The key of a label; empty: each machine by itself.
    pub together: Line,
    pub order: Order,
    /// `10 copies`, `30 days`; empty: never.
    pub whole: Line,
    pub local: Option<Span>,
    pub wanted: Option<Span>,
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        BTreeSet::from([Act::Machines])
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        match self {
            Ask::Keep(ask) => keep::keep(draft, ask),
            Ask::Pause { job, paused } => keep::pause(draft, *job, *paused),
            Ask::Remove { job } => keep::remove(draft, *job),
        }
    }

    fn password(&mut self) -> Option<&mut Password> {
        None
    }
}
