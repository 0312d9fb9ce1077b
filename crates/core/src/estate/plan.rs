//! Recovery plans: who is brought up at the other site, in which order, and what lies between.

use super::{Estate, Machine, Way};
use crate::{
    expression::Expression,
    ids::{MachineId, NetworkId, PairId, PlanId, SiteId},
    moment::{Moment, Span},
};
use serde::{Deserialize, Serialize};
use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
};

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct RecoveryPlan {
    pub id: PlanId,
    pub name: String,
    /// From where machines are brought, over which pair.
    pub way: Way,
    /// In their order: one begins when the one before is over.
    pub stages: Vec<Stage>,
    /// In a drill cards are on these in place of the networks that they would be on there.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub drills: BTreeMap<NetworkId, NetworkId>,
    /// Grows with every change.
    pub edition: u32,
    pub changed: Moment,
}

/// Machines that are brought up together, and what is done then.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Stage {
    pub name: String,
    /// By name, in this order.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub named: Vec<MachineId>,
    /// And whoever has these labels, by restart tier and name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub who: Option<Expression>,
    /// Each is waited for before the next is powered on.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub in_turn: bool,
    /// A guest may take so long until it answers.
    pub limit: Span,
    /// In their order, once all of it have answered.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub then: Vec<Then>,
}

/// What lies between a stage and the next.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Then {
    /// Somebody says that it is so.
    Confirm { text: String },
    /// Time passes.
    Pause { time: Span },
    /// A command ends well in a guest, by its agent.
    Run { machine: MachineId, command: String },
}

impl Then {
    /// `a person confirms: …`
    pub fn words(&self, estate: &Estate) -> String {
        match self {
            Then::Confirm { text } => format!("a person confirms: {text}"),
            Then::Pause { time } => format!("wait {time}"),
            Then::Run { machine, command } => {
                let name = estate.machines.get(machine).map(|m| m.name.clone());
                let name = name.unwrap_or_else(|| machine.to_string());
                format!("in {name}: {command}")
            }
        }
    }
}

impl Estate {
    pub fn plan_named(&self, name: &str) -> Option<&Arc<RecoveryPlan>> {
        self.plans.values().find(|p| p.name == name)
    }
    /// Where a network is, by its cluster.
    pub fn site_of_network(&self, network: NetworkId) -> Option<SiteId> {
        let network = self.networks.get(&network)?;
        self.clusters.get(&network.cluster).map(|c| c.site)
    }
    /// Plans over a pair.
    pub fn plans_over(&self, pair: PairId) -> impl Iterator<Item = &Arc<RecoveryPlan>> {
        self.plans.values().filter(move |p| p.way.pair == pair)
    }
    /// The machines of each stage. Whoever is in an earlier one is in no later one. O(machines × stages).
    pub fn in_plan(&self, plan: &RecoveryPlan) -> Vec<Vec<&Arc<Machine>>> {
        let mut taken: BTreeSet<MachineId> = BTreeSet::new();
        let own =
            |m: &&Arc<Machine>| m.deleted.is_none() && m.proves.is_none() && m.replica.is_none();
        let here = |m: &&Arc<Machine>| self.site_of(m) == Some(plan.way.from);
        // Who is named keeps that stage, wherever a label of it would put it.
        let named: BTreeSet<MachineId> = plan.stages.iter().flat_map(|s| s.named.clone()).collect();
        let stage = |stage: &Stage| {
            let by_name = stage.named.iter().filter_map(|id| self.machines.get(id));
            let mut all: Vec<&Arc<Machine>> = by_name.filter(own).collect();
            all.retain(|m| taken.insert(m.id));
            if let Some(who) = &stage.who {
                let fits = self.machines.values().filter(|m| who.fits(&m.labels));
                let fits = fits.filter(own).filter(here);
                let fits = fits.filter(|m| !named.contains(&m.id));
                let mut more: Vec<&Arc<Machine>> = fits.filter(|m| taken.insert(m.id)).collect();
                more.sort_by(|a, b| (a.tier, &a.name).cmp(&(b.tier, &b.name)));
                all.extend(more);
            }
            all
        };
        plan.stages.iter().map(stage).collect()
    }
}
