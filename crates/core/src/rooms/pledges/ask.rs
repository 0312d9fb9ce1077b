//! What somebody wishes of pledges.

use super::{Step, give, keep};
use crate::{
    endpoint::Password,
    estate::Clauses,
    ids::{MachineId, PledgeId},
    permits::Act,
    road::{Ask as Asked, Draft},
    text::{Line, Note},
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;
use uuid::Uuid;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ask {
    Keep(Box<Keep>),
    /// By hand; or what was given by hand is taken away.
    Give {
        pledge: PledgeId,
        machines: Vec<MachineId>,
        given: bool,
    },
    /// Nothing is promised of these disks of a machine, and of its others all.
    Except {
        machine: MachineId,
        disks: BTreeSet<Uuid>,
    },
    Remove {
        pledge: PledgeId,
    },
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Keep {
    /// None: a new one.
    pub pledge: Option<PledgeId>,
    pub name: Line,
    pub note: Note,
    /// An expression of labels; empty: given by hand only.
    pub to: Line,
    pub clauses: Clauses,
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        BTreeSet::from([Act::Machines])
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        match self {
            Ask::Keep(ask) => keep::keep(draft, ask),
            Ask::Give { pledge, machines, given } => give::give(draft, *pledge, machines, *given),
            Ask::Except { machine, disks } => give::except(draft, *machine, disks),
            Ask::Remove { pledge } => keep::remove(draft, *pledge),
        }
    }

    fn password(&mut self) -> Option<&mut Password> {
        None
    }
}
