//! Storage arrays and filers: where volumes come from.

use crate::{
    ids::{ArrayId, SecretRef, SiteId},
    moment::Moment,
    units::Bytes,
};
use serde::{Deserialize, Serialize};

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum ArrayKind {
    /// LUNs by iSCSI.
    Block,
    /// Exports by NFS.
    File,
}

/// One management address with the certificate that it must show.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Controller {
    pub address: String,
    /// SHA-256 of the SubjectPublicKeyInfo, lower-case hex.
    pub pin: String,
    /// Why it did not answer when it was last asked.
    pub silent: Option<String>,
}

/// Room that volumes are made of.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Pool {
    pub name: String,
    pub capacity: Bytes,
    /// Really written, after the array's own data reduction.
    pub used: Bytes,
}

impl Pool {
    pub fn free(&self) -> Bytes {
        self.capacity.less(self.used)
    }
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum ArrayCondition {
    /// Its first reading runs.
    Connecting,
    Steady,
    /// No management address answers.
    Lost {
        since: Moment,
        why: String,
    },
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Array {
    pub id: ArrayId,
    pub name: String,
    pub site: SiteId,
    pub kind: ArrayKind,
    pub controllers: Vec<Controller>,
    pub user: String,
    pub key: Option<SecretRef>,
    pub maker: String,
    pub model: String,
    pub serial: String,
    pub pools: Vec<Pool>,
    /// `ip:port` of everything that hosts log in on.
    pub portals: Vec<String>,
    pub condition: ArrayCondition,
    pub note: String,
}

impl Array {
    pub fn pool(&self, name: &str) -> Option<&Pool> {
        self.pools.iter().find(|p| p.name == name)
    }
    pub fn answers(&self) -> bool {
        self.condition == ArrayCondition::Steady
    }
    pub fn silent(&self) -> impl Iterator<Item = &Controller> {
        self.controllers.iter().filter(|c| c.silent.is_some())
    }
}
