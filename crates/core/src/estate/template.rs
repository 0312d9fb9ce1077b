//! Templates: a named series of versions, each with disks that nobody writes to any more.

use super::{Disk, Estate, Machine};
use crate::{
    ids::{FirstBootId, NetworkId, TemplateId, VolumeId},
    moment::Moment,
    units::Bytes,
};
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use uuid::Uuid;

/// Whether what makes a guest itself was taken out of the copy.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Sealed {
    /// What was removed.
    Yes(Vec<String>),
    /// Nobody asked for it.
    No,
    /// Why it could not be done.
    Unable(String),
}

/// One version: frozen disks, and what machines made from it have where nobody says otherwise.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Version {
    pub number: u32,
    /// By what its volume calls it.
    pub uuid: Uuid,
    pub volume: VolumeId,
    pub disks: Vec<Disk>,
    /// Room that it takes on its volume.
    pub takes: Bytes,
    pub vcpus: u32,
    pub memory: Bytes,
    /// A network for each card.
    pub cards: Vec<Option<NetworkId>>,
    pub sealed: Sealed,
    /// What guests of machines made from it are told, unless another document is chosen.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub first_boot: Option<FirstBootId>,
    /// What it boots with; none: that was not known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub firmware: Option<Box<super::Firmware>>,
    /// What it was made from, in words.
    pub from: String,
    pub made: Moment,
    #[serde(default)]
    pub note: String,
    /// False while the run that makes it hasn't finished.
    #[serde(default = "yes")]
    pub ready: bool,
}

fn yes() -> bool {
    true
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Template {
    pub id: TemplateId,
    pub name: String,
    #[serde(default)]
    pub note: String,
    /// Oldest first.
    pub versions: Vec<Version>,
    /// Numbers are never given twice.
    pub next: u32,
}

/// The version whose disks a machine's own lie on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Parent {
    pub template: TemplateId,
    pub version: u32,
}

impl Template {
    pub fn version(&self, number: u32) -> Option<&Version> {
        self.versions.iter().find(|v| v.number == number)
    }
    /// The newest one that machines can be made from.
    pub fn newest(&self) -> Option<&Version> {
        self.versions.iter().rev().find(|v| v.ready)
    }
}

impl Estate {
    /// Machines whose disks lie on a version, those that are deleted and recoverable too.
    pub fn dependents(&self, of: Parent) -> impl Iterator<Item = &Arc<Machine>> {
        let all = self.index.lying_on.all(&of);
        all.filter_map(|id| self.machines.get(id))
    }
    pub fn template_named(&self, name: &str) -> Option<&Arc<Template>> {
        self.templates.values().find(|t| t.name == name)
    }
    /// What a version is called: `harbour-base 3`.
    pub fn called(&self, parent: Parent) -> String {
        let template = self.templates.get(&parent.template);
        let name = template.map_or_else(|| parent.template.to_string(), |t| t.name.clone());
        format!("{name} {}", parent.version)
    }
    /// Versions that lie on a volume.
    pub fn versions_on(
        &self,
        volume: VolumeId,
    ) -> impl Iterator<Item = (&Arc<Template>, &Version)> {
        let all = self.templates.values();
        all.flat_map(|t| t.versions.iter().map(move |v| (t, v)))
            .filter(move |(_, v)| v.volume == volume)
    }
}
