//! What a check found: severity, words, evidence, remedy, and the field that would change it.

use crate::{
    ids::{ClusterId, HostId, MachineId},
    units::Bytes,
};
use serde::{Deserialize, Serialize};

/// How much a finding weighs. Ordered: the last one weighs most.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Severity {
    Clear,
    /// Nothing could answer. Never drawn as clear.
    Unchecked,
    /// Think about it.
    Mind,
    /// Blocks the run.
    Stop,
}

impl Severity {
    pub fn word(self) -> &'static str {
        match self {
            Severity::Clear => "clear",
            Severity::Unchecked => "unchecked",
            Severity::Mind => "mind",
            Severity::Stop => "stop",
        }
    }
}

/// Which rule was checked; stable, so that two assessments can be compared.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Rule {
    Permit,
    Exists,
    Name,
    Count,
    Password,
    Reachable,
    Identity,
    Owner,
    Minimum,
    HostOpen,
    Memory,
    Overcommit,
    Cores,
    CpuRatio,
    Numa,
    CpuLevel,
    CpuMaker,
    Hardware,
    Software,
    Clock,
    Bmc,
    Storage,
    VolumeRoom,
    VolumeReserve,
    Paths,
    Pool,
    Content,
    Subnet,
    Vlan,
    Mtu,
    Uplink,
    Wire,
    Drift,
    Address,
    Apart,
    Place,
    Placement,
    Headroom,
    Held,
    State,
    Guest,
    Protected,
    Deleted,
    Label,
    Disk,
    Nothing,
    Migration,
    Keepers,
}

impl Rule {
    /// What was checked, in a word or two.
    pub fn word(self) -> &'static str {
        match self {
            Rule::Permit => "role",
            Rule::Exists => "existence",
            Rule::Name => "names",
            Rule::Count => "count",
            Rule::Password => "password",
            Rule::Reachable => "reachability",
            Rule::Identity => "identity",
            Rule::Owner => "owner",
            Rule::Minimum => "minimum",
            Rule::HostOpen => "host",
            Rule::Memory | Rule::Overcommit => "memory",
            Rule::VolumeRoom | Rule::VolumeReserve | Rule::Storage => "volume",
            Rule::Paths => "paths",
            Rule::Pool => "pool",
            Rule::Content => "contents",
            Rule::Subnet => "subnet",
            Rule::Vlan => "VLAN",
            Rule::Mtu => "MTU",
            Rule::Uplink => "uplinks",
            Rule::Wire => "switch ports",
            Rule::Drift => "drift",
            Rule::Address => "addresses",
            Rule::Cores | Rule::CpuRatio => "vCPUs",
            Rule::Numa => "NUMA",
            Rule::CpuLevel => "CPU level",
            Rule::CpuMaker => "CPU maker",
            Rule::Hardware => "virtual hardware",
            Rule::Software => "software",
            Rule::Clock => "clock",
            Rule::Bmc => "controller",
            Rule::Apart => "keep-apart",
            Rule::Place => "rules",
            Rule::Placement => "placement",
            Rule::Headroom => "headroom",
            Rule::Held => "another run",
            Rule::State => "state",
            Rule::Guest => "guest",
            Rule::Protected => "protection",
            Rule::Deleted => "deletion",
            Rule::Label => "labels",
            Rule::Disk => "disks",
            Rule::Nothing => "selection",
            Rule::Migration => "migration",
            Rule::Keepers => "keepers",
        }
    }
}

/// One result of a check.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Finding {
    pub rule: Rule,
    /// What it is about, by name.
    pub subject: String,
    pub severity: Severity,
    /// A sentence that a person understands.
    pub text: String,
    /// The figures that it rests on.
    pub evidence: String,
    /// The field of the sheet that would change it.
    pub field: Option<String>,
    /// What to do about it.
    pub remedy: Option<String>,
    /// Other proposals that would do it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub offers: Vec<Offer>,
}

/// Another proposal that removes what stands in the way.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Offer {
    Stop(MachineId),
    MoveDisks(MachineId),
    /// The image in its drive.
    TakeOut(MachineId),
    /// The rules of its cluster.
    Rules(ClusterId),
    /// Taking the host out of service.
    Empty(HostId),
    /// Moving it to where there is room for so many vCPUs and so much memory, of which so much is always kept.
    MoveThenGrow {
        machine: MachineId,
        vcpus: u32,
        memory: Bytes,
        kept: Bytes,
    },
}

impl Finding {
    pub fn new(
        rule: Rule,
        severity: Severity,
        subject: impl Into<String>,
        text: impl Into<String>,
    ) -> Self {
        Finding {
            rule,
            subject: subject.into(),
            severity,
            text: text.into(),
            evidence: String::new(),
            field: None,
            remedy: None,
            offers: Vec::new(),
        }
    }
    pub fn stop(rule: Rule, subject: impl Into<String>, text: impl Into<String>) -> Self {
        Self::new(rule, Severity::Stop, subject, text)
    }
    pub fn mind(rule: Rule, subject: impl Into<String>, text: impl Into<String>) -> Self {
        Self::new(rule, Severity::Mind, subject, text)
    }
    pub fn clear(rule: Rule, subject: impl Into<String>, text: impl Into<String>) -> Self {
        Self::new(rule, Severity::Clear, subject, text)
    }
    pub fn unchecked(rule: Rule, subject: impl Into<String>, text: impl Into<String>) -> Self {
        Self::new(rule, Severity::Unchecked, subject, text)
    }
    pub fn at(mut self, field: &str) -> Self {
        self.field = Some(field.to_owned());
        self
    }
    pub fn because(mut self, evidence: impl Into<String>) -> Self {
        self.evidence = evidence.into();
        self
    }
    pub fn remedy(mut self, remedy: impl Into<String>) -> Self {
        self.remedy = Some(remedy.into());
        self
    }
    pub fn offering(mut self, offers: impl IntoIterator<Item = Offer>) -> Self {
        self.offers.extend(offers);
        self
    }
    pub fn stops(&self) -> bool {
        self.severity == Severity::Stop
    }
}
