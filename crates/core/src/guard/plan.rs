//! What a guard is given in advance: whom it watches, what runs where, and the cluster as numbers, from which the places
//! of a failure follow by the same search as the failure matrix.

use super::Act;
use crate::{
    availability::Table,
    ids::{HostId, MachineId},
    moment::Span,
};
use std::collections::BTreeMap;

/// (number of the history, revision) at which a plan was made.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, PartialOrd, Ord)]
pub struct Stamp(pub u64, pub u64);

#[derive(Debug, Clone, Default, PartialEq)]
pub struct Plan {
    pub stamp: Stamp,
    pub wards: BTreeMap<HostId, Ward>,
    /// The machines that shall be on and restart.
    pub charges: BTreeMap<MachineId, Charge>,
    pub table: Table,
    /// How long ago hosts were fenced on their controllers' word, for whoever takes over.
    pub on_word: Vec<Span>,
}

/// A host that is watched.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Ward {
    pub name: String,
    /// Pinned at the claim: a controller that shows another one is not believed.
    pub serial: String,
    /// Whether it has a controller that can be asked.
    pub controller: bool,
    /// It was proved off, and nothing was heard of it since.
    pub off: bool,
    /// A verdict that was recorded by whoever watched before, and not carried to its end.
    pub judged: Option<Act>,
    /// How long ago its controller was last told to switch it off, where that was recorded.
    pub switched: Option<Span>,
}

/// A machine that shall run.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Charge {
    pub name: String,
    /// Where it runs, or ran.
    pub host: HostId,
    /// Of its run lease.
    pub generation: u64,
    /// It is known to be off: its host was fenced, or came back without it.
    pub fallen: bool,
    pub tier: u8,
    /// It boots once this machine answers.
    pub after: Option<MachineId>,
    /// From its start until its guest answers, where somebody measured it.
    pub boots_in: Option<Span>,
}
