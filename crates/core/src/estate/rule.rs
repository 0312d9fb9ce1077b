//! Rules for where machines may be, kept with their cluster.

use super::{Estate, Host, Machine};
use crate::{
    ids::{HostId, MachineId},
    text::Line,
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

/// A rule for some machines of a cluster.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct PlaceRule {
    pub name: Line,
    pub kind: RuleKind,
    pub who: Who,
    /// Else it is preferred: worth a thought, and it costs where it is broken.
    pub required: bool,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum RuleKind {
    /// Never two of them on a host.
    Apart,
    /// All of them on one host.
    Together,
    /// On these hosts only.
    Pinned(Where),
}

/// Machines by name, or all that carry a label.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Who {
    Machines(BTreeSet<MachineId>),
    /// `key=value`, or `key`.
    Label(Line),
}

/// Hosts by name, or all that carry a label.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Where {
    Hosts(BTreeSet<HostId>),
    /// `key=value`, or `key`, such as `rack=a1`.
    Label(String),
}

impl Who {
    pub fn has(&self, machine: &Machine) -> bool {
        match self {
            Who::Machines(all) => all.contains(&machine.id),
            Who::Label(label) => machine.label_words().any(|l| l == *label),
        }
    }
    pub fn words(&self, estate: &Estate) -> String {
        match self {
            Who::Label(label) => format!("machines labelled {label}"),
            Who::Machines(all) => {
                let name = |id: &MachineId| estate.machines.get(id).map(|m| m.name.clone());
                let names: Vec<String> = all.iter().filter_map(name).collect();
                names.join(", ")
            }
        }
    }
}

impl Where {
    pub fn has(&self, host: &Host) -> bool {
        match self {
            Where::Hosts(all) => all.contains(&host.id),
            Where::Label(label) => host.label_words().any(|l| l == *label),
        }
    }
    pub fn words(&self, estate: &Estate) -> String {
        match self {
            Where::Label(label) => format!("hosts labelled {label}"),
            Where::Hosts(all) => {
                let name = |id: &HostId| estate.hosts.get(id).map(|h| h.name.clone());
                let names: Vec<String> = all.iter().filter_map(name).collect();
                names.join(", ")
            }
        }
    }
}

impl PlaceRule {
    /// `apart`, `together`, `pinned`.
    pub fn kind_word(&self) -> &'static str {
        match self.kind {
            RuleKind::Apart => "apart",
            RuleKind::Together => "together",
            RuleKind::Pinned(_) => "pinned",
        }
    }
    pub fn strength(&self) -> &'static str {
        if self.required {
            "required"
        } else {
            "preferred"
        }
    }
}

impl Estate {
    /// The rules of its cluster that are about a machine.
    pub fn rules_of<'a>(&'a self, machine: &'a Machine) -> impl Iterator<Item = &'a PlaceRule> {
        let cluster = machine.cluster.and_then(|c| self.clusters.get(&c));
        let rules = cluster.map(|c| c.rules.as_slice()).unwrap_or_default();
        rules.iter().filter(|r| r.who.has(machine))
    }
    /// The required keep-apart groups of a machine: its own, those of rules, and the guest clusters that it is a node of.
    pub fn apart_groups(&self, machine: &Machine) -> Vec<String> {
        let rules = self.rules_of(machine);
        let apart = rules.filter(|r| r.required && r.kind == RuleKind::Apart);
        machine
            .apart
            .iter()
            .cloned()
            .chain(apart.map(|r| r.name.to_string()))
            .chain(self.clustered(machine))
            .collect()
    }
}
