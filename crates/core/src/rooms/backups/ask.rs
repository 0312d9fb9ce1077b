//! Who shall be backed up, and where to.

use super::{Step, assess, due};
use crate::{
    endpoint::Password,
    ids::{JobId, MachineId, StoreId},
    moment::Span,
    permits::Act,
    road::{Ask as Asked, Draft},
    rooms::snapshots::Quiet,
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ask {
    Now(BackUp),
    Job(JobRun),
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct BackUp {
    pub machines: Vec<MachineId>,
    pub store: Option<StoreId>,
    pub quiet: Quiet,
    /// So long the points are kept; none: until somebody lets them go.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub keep: Option<Span>,
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        BTreeSet::from([Act::Machines])
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        match self {
            Ask::Now(ask) => assess::back_up(draft, ask),
            Ask::Job(ask) => due::job(draft, ask.job, ask.by_hand),
        }
    }

    fn password(&mut self) -> Option<&mut Password> {
        None
    }
}

/// What a job is about, because it is due or because somebody says so.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct JobRun {
    pub job: JobId,
    /// What is due later is due as before.
    pub by_hand: bool,
}
