//! What somebody wishes of a schedule.

use super::{Step, keep};
use crate::{
    endpoint::Password,
    ids::ScheduleId,
    moment::Span,
    permits::Act,
    road::{Ask as Asked, Draft},
    text::Line,
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ask {
    Keep(Keep),
    Pause { schedule: ScheduleId, paused: bool },
    /// Snapshots that it took stay until their end.
    Remove { schedule: ScheduleId },
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Keep {
    /// None: a new one.
    pub schedule: Option<ScheduleId>,
    pub name: Line,
    pub label: Line,
    pub every: Span,
    pub keeps: Span,
    /// The minute of the day (UTC) at which the first is taken; none: at once.
    pub at: Option<u16>,
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        BTreeSet::from([Act::Machines])
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        match self {
            Ask::Keep(ask) => keep::keep(draft, ask),
            Ask::Pause { schedule, paused } => keep::pause(draft, *schedule, *paused),
            Ask::Remove { schedule } => keep::remove(draft, *schedule),
        }
    }

    fn password(&mut self) -> Option<&mut Password> {
        None
    }
}
