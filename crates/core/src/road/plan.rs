//! What a run will do: steps with what they wait for and what they take, and the gate before it.

use super::{When, Work};
use crate::{
    finding::Finding,
    ids::{HostId, Revision, RunId},
    moment::Span,
    runs::Run,
    units::Bytes,
};
use serde::{Deserialize, Serialize};

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct PlannedStep<S> {
    pub step: S,
    pub title: String,
    /// Steps that must be done before.
    pub after: Vec<usize>,
    /// Whose turn comes first: until all of these are done, or one of them stands still because it failed. They share something
    /// scarce with it, and it needs nothing of theirs.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub turn: Vec<usize>,
    /// The sheet's field that its failure usually comes from.
    pub field: Option<String>,
    /// When it is foretold to be; nothing in plans from before that was kept.
    #[serde(default)]
    pub when: When,
}

/// Where a machine goes, with what that does to the host.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Place {
    pub machine: String,
    pub host: HostId,
    pub host_name: String,
}

/// One of many that come into being: what it is called, where it will be, its addresses.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Listed {
    pub name: String,
    /// A host, or that it stays off.
    pub place: String,
    pub addresses: String,
    /// The host name that its guest is told; empty: as it is called.
    pub host_name: String,
}

/// A host's held memory before and after.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Fill {
    pub host: HostId,
    pub name: String,
    pub before: Bytes,
    pub after: Bytes,
    pub installed: Bytes,
}

/// A plan as a run carries it: written once.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Plan<A, S> {
    pub run: RunId,
    pub ask: A,
    pub revision: Revision,
    pub findings: Vec<Finding>,
    pub places: Vec<Place>,
    pub fills: Vec<Fill>,
    pub steps: Vec<PlannedStep<S>>,
    pub time: Span,
}

/// One bar of the plan's picture: all steps of a kind.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Bar {
    pub group: &'static str,
    pub from: Span,
    pub to: Span,
    pub steps: usize,
}

/// The steps by kind as foretold, in the order in which they begin.
pub fn bars<S: Work>(steps: &[PlannedStep<S>]) -> Vec<Bar> {
    let foretold = steps.iter().map(|step| (step, step.when));
    gather(foretold.filter(|(_, when)| when.to > Span(0)))
}

/// The steps by kind as they went, those that have ended.
pub fn went<S: Work>(steps: &[PlannedStep<S>], run: &Run) -> Vec<Bar> {
    gather(steps.iter().zip(run.steps()).filter_map(|(step, state)| {
        let (from, to) = state.began.zip(state.ended)?;
        let (from, to) = (from.since(run.began), to.since(run.began));
        Some((step, When { from, to }))
    }))
}

fn gather<'a, S: Work + 'a>(all: impl Iterator<Item = (&'a PlannedStep<S>, When)>) -> Vec<Bar> {
    let mut bars: Vec<Bar> = Vec::new();
    for (step, When { from, to }) in all {
        match bars.iter_mut().find(|b| b.group == step.step.group()) {
            Some(bar) => {
                bar.from = bar.from.min(from);
                bar.to = bar.to.max(to);
                bar.steps += 1;
            }
            None => bars.push(Bar {
                group: step.step.group(),
                from,
                to,
                steps: 1,
            }),
        }
    }
    bars.sort_by_key(|b| (b.from, b.to));
    bars
}

/// A plan that passed the gate. Only [`super::Assessment::accept`] makes one.
#[derive(Debug, Clone)]
pub struct AcceptedPlan<A, S: Work> {
    pub(super) title: String,
    pub(super) intents: Vec<S::Event>,
    pub(super) plan: Plan<A, S>,
}
