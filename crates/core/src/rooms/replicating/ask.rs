//! What shall be replicated, or started all the same.

use super::{Step, due, force};
use crate::{
    endpoint::Password,
    ids::{HostId, MachineId},
    permits::Act,
    road::{Ask as Asked, Draft},
    rooms::backups::JobRun,
    text::Line,
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ask {
    Job(JobRun),
    Start(Force),
}

/// A replica becomes a machine of its own, and is powered on.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Force {
    pub machine: MachineId,
    /// None: the best.
    pub host: Option<HostId>,
    /// Its name, to confirm.
    pub typed: Line,
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        BTreeSet::from([Act::Machines])
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        match self {
            Ask::Job(ask) => due::job(draft, ask.job, ask.by_hand),
            Ask::Start(ask) => force::start(draft, ask),
        }
    }

    fn password(&mut self) -> Option<&mut Password> {
        None
    }
}
