//! Pools: machines that are kept ready from a template, handed out to people, and thrown away afterwards.

use super::{Estate, Machine};
use crate::{
    ids::{ClusterId, FirstBootId, NetworkId, SparePoolId, TemplateId},
    moment::Moment,
    units::Bytes,
};
use serde::{Deserialize, Serialize};
use std::sync::Arc;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SparePool {
    pub id: SparePoolId,
    pub name: String,
    /// Its newest version is what new ones are made from.
    pub template: TemplateId,
    pub cluster: ClusterId,
    /// Their names, with `{01}` for a running number.
    pub pattern: String,
    /// So many are kept ready at least.
    pub spare: u32,
    /// With those that are handed out never more than this.
    pub most: u32,
    pub vcpus: u32,
    pub memory: Bytes,
    /// Their disks lie on the version, and take only what is written.
    pub dependent: bool,
    /// A network for each card.
    pub networks: Vec<Option<NetworkId>>,
    pub document: Option<FirstBootId>,
    /// One that is handed out is thrown away once it is off.
    pub ends_off: bool,
}

/// Of a machine: the pool that made it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct OfPool {
    pub pool: SparePoolId,
    /// Of the template that it was made from.
    pub version: u32,
    /// None: it is a spare.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub held: Option<Held>,
    /// It was given back, and is thrown away.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub back: bool,
}

/// Whom it was handed out to.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Held {
    pub by: String,
    pub since: Moment,
}

impl Estate {
    /// The machines of a pool that are not deleted, by number.
    pub fn pool_members(&self, pool: SparePoolId) -> impl Iterator<Item = &Arc<Machine>> {
        let all = self.index.of_pool.all(&pool);
        all.filter_map(|id| self.machines.get(id))
            .filter(|m| m.deleted.is_none())
    }
    pub fn spare_pool_named(&self, name: &str) -> Option<&Arc<SparePool>> {
        self.spare_pools.values().find(|p| p.name == name)
    }
}
