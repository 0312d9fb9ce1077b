//! Which plan shall be carried out.

use super::{Step, failover, shift};
use crate::{
    endpoint::Password,
    ids::{MachineId, PlanId},
    moment::Span,
    permits::Act,
    road::{Ask as Asked, Draft},
    rooms::machines::AfterGrace,
    text::Line,
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ask {
    Shift(Shift),
    Failover(Failover),
    /// These are seen running though another site took them over: off, at once.
    Lay { machines: Vec<MachineId> },
    /// What was kept aside is a replica again.
    Clear { machines: Vec<MachineId> },
}

/// Both sites are there: nothing is lost.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Shift {
    pub plan: PlanId,
    /// So long a guest may take to stop, and what is done with one that has not.
    pub grace: Span,
    pub then: AfterGrace,
    /// The plan's name, to confirm.
    pub typed: Line,
}

/// The site is gone, or declared gone.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Failover {
    pub plan: PlanId,
    pub which: Which,
    /// The name of the site that is gone, to confirm.
    pub typed: Line,
}

/// From which of its points a machine goes on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Which {
    /// The newest, but for those of which a copy did not come up.
    #[default]
    Newest,
    /// The newest of which a copy came up.
    Proven,
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        BTreeSet::from([Act::Machines])
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        match self {
            Ask::Shift(ask) => shift::shift(draft, ask),
            Ask::Failover(ask) => failover::failover(draft, ask),
            Ask::Lay { machines } => failover::lay(draft, machines),
            Ask::Clear { machines } => failover::clear(draft, machines),
        }
    }

    fn password(&mut self) -> Option<&mut Password> {
        None
    }
}
