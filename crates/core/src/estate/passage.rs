//! How recovery plans were carried out: stage by stage, what was foretold beside what it took, and what came of each machine.

use super::{AnyPoint, Equal, Estate};
use crate::{
    ids::{MachineId, PassageId, PlanId, RunId},
    moment::{Moment, Span},
};
use serde::{Deserialize, Serialize};
use std::{collections::BTreeSet, sync::Arc};

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Passage {
    pub id: PassageId,
    pub plan: PlanId,
    /// As it was called then, and which edition of it.
    pub name: String,
    pub edition: u32,
    /// `Quayside to Hilltop`
    pub way: String,
    pub kind: PassageKind,
    pub run: RunId,
    pub began: Moment,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ended: Option<Moment>,
    /// Its run was given up before it was through.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub left: bool,
    pub stages: Vec<Passed>,
}

/// How a plan is carried out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum PassageKind {
    /// Alone, beside production, and removed.
    Drill,
    /// In earnest, without loss: originals are stopped, and what they held last is brought over before anything starts there.
    Move,
    /// In earnest: the site is gone, and what it wrote last with it.
    Failover,
}

impl PassageKind {
    pub fn word(self) -> &'static str {
        match self {
            PassageKind::Drill => "drill",
            PassageKind::Move => "move",
            PassageKind::Failover => "failover",
        }
    }
}

/// A stage as it went.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Passed {
    pub name: String,
    /// How long it was foretold to take, without what people take.
    pub foretold: Span,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub began: Option<Moment>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ended: Option<Moment>,
    pub machines: Vec<Arrived>,
    /// Who belonged to it and could not be tried, as nothing of them could be booted.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub left_out: Vec<String>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub then: Vec<Between>,
}

/// A machine as it came up.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Arrived {
    /// The original, and how it was called.
    pub machine: MachineId,
    pub name: String,
    /// What it was brought up from, and of which instant that is.
    pub point: AnyPoint,
    pub taken: Moment,
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub host: String,
    /// From its power-on until it had answered; none: it has not.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub booted: Option<Span>,
    /// None: it was not asked yet.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub good: Option<bool>,
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub said: String,
    /// That both sides held the same before it went on there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub equal: Option<Equal>,
}

/// What lay between two stages.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Between {
    /// Known by it within its passage.
    pub mark: u64,
    pub words: String,
    /// Somebody is asked whether that is so.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub asks: bool,
    /// It goes on by itself once all of its stage is well; nobody is asked unless that is not so.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub holds: bool,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub began: Option<Moment>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ended: Option<Moment>,
    /// Whether it came to a good end; none: it has not come to any.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub good: Option<bool>,
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub said: String,
    /// By which run somebody answered: that knows who it was.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub answer: Option<RunId>,
}

impl Between {
    /// Somebody is waited for.
    pub fn waits(&self) -> bool {
        self.asks && self.began.is_some() && self.good.is_none()
    }
}

impl Passed {
    /// What it took, if it is over; what people took for their answers is not in it.
    pub fn took(&self) -> Option<Span> {
        let whole = self.ended?.since(self.began?);
        let within = |b: &&Between| b.asks && b.ended <= self.ended;
        let asked = self.then.iter().filter(within);
        let asked: u64 = asked.filter_map(|b| Some(b.ended?.since(b.began?).0)).sum();
        Some(Span(whole.0.saturating_sub(asked)))
    }
}

impl Passage {
    pub fn is_open(&self) -> bool {
        self.ended.is_none() && !self.left
    }
    /// Whether all of it came to a good end.
    pub fn is_good(&self) -> bool {
        let machines = self.stages.iter().flat_map(|s| &s.machines);
        let between = self.stages.iter().flat_map(|s| &s.then);
        let good = |g: Option<bool>| g == Some(true);
        self.ended.is_some()
            && self.stages.iter().all(|s| s.left_out.is_empty())
            && machines.clone().all(|m| good(m.good))
            && between.clone().all(|b| good(b.good))
    }
    /// How many machines came up well, of how many.
    pub fn came(&self) -> (usize, usize) {
        let machines = || self.stages.iter().flat_map(|s| &s.machines);
        (
            machines().filter(|m| m.good == Some(true)).count(),
            machines().count() + self.left_out().count(),
        )
    }
    /// Who could not be tried.
    pub fn left_out(&self) -> impl Iterator<Item = &str> {
        let all = self.stages.iter().flat_map(|s| &s.left_out);
        all.map(String::as_str)
    }
    /// The oldest instant that anything was brought up from.
    pub fn oldest(&self) -> Option<Moment> {
        let machines = self.stages.iter().flat_map(|s| &s.machines);
        machines.map(|m| m.taken).min()
    }
    pub fn foretold(&self) -> Span {
        let all = self.stages.iter().map(|s| s.foretold.0);
        Span(all.sum())
    }
    /// What all stages took together, if all are over.
    pub fn took(&self) -> Option<Span> {
        let all = self.stages.iter().map(Passed::took);
        let all: Option<Vec<Span>> = all.collect();
        Some(Span(all?.iter().map(|s| s.0).sum()))
    }
    /// What somebody is waited for now, with its stage.
    pub fn waits_for(&self) -> Option<(&Passed, &Between)> {
        if !self.is_open() {
            return None;
        }
        let all = self.stages.iter();
        all.flat_map(|s| s.then.iter().map(move |b| (s, b)))
            .find(|(_, b)| b.waits())
    }
}

impl Estate {
    /// How a plan was carried out, newest first.
    pub fn passages_of(&self, plan: PlanId) -> Vec<&Arc<Passage>> {
        let own = self.passages.values().filter(|p| p.plan == plan);
        let mut all: Vec<&Arc<Passage>> = own.collect();
        all.sort_by_key(|p| std::cmp::Reverse((p.began, p.id)));
        all
    }
    /// Machines that are going over to another site now.
    pub fn going_over(&self) -> BTreeSet<MachineId> {
        let open = self.passages.values();
        let open = open.filter(|p| p.is_open() && p.kind != PassageKind::Drill);
        let all = open.flat_map(|p| p.stages.iter().flat_map(|s| &s.machines));
        all.map(|m| m.machine).collect()
    }
    /// The one that goes on.
    pub fn passage_open(&self, plan: PlanId) -> Option<&Arc<Passage>> {
        let mut all = self.passages.values();
        all.find(|p| p.plan == plan && p.is_open())
    }
}
