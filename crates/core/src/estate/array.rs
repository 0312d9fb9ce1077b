//! Storage arrays and filers: where volumes come from.

use super::{Served, Service};
use crate::{
    ids::{ArrayId, SecretRef, SiteId, VolumeId},
    moment::Moment,
    units::Bytes,
};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

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
    /// What it does for what is made in it; none: it doesn't say.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub service: Option<Box<Service>>,
}

impl Array {
    /// The same, as it will be when it serves a volume in one of its pools.
    #[must_use]
    pub fn serving(&self, volume: VolumeId, pool: &str, since: Moment) -> Array {
        let mut array = self.clone();
        let service = self.pool(pool).and_then(|p| p.service.as_deref().cloned());
        let served = service.map(|service| Served {
            service,
            group: None,
            since,
            before: None,
        });
        array.served.extend(served.map(|s| (volume, s)));
        array
    }
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
    /// What was ours on it and is connected no more.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub left: Vec<LeftLun>,
    /// What a run found on a LUN that it could not take, by the array's own number, in its words.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub found: BTreeMap<String, String>,
    /// What it does for volumes of ours, where it says so.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub served: BTreeMap<VolumeId, Served>,
}

/// A LUN that was ours: handed back, or made for a connection that was given up.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct LeftLun {
    /// As which it was ours.
    pub volume: VolumeId,
    /// The array's own number.
    pub lun: String,
    pub uid: String,
    pub name: String,
    /// It was handed back or made by us; else it was the array's own before and after.
    pub ours: bool,
    /// Initiators of ours that can still reach it and shall not.
    pub reach: BTreeSet<String>,
}

impl Array {
    /// What a reading says of it. How it is reached, and what people said, is not taken from a reading: it may have begun
    /// before that changed.
    #[must_use]
    pub fn as_read(&self, read: &Array) -> Array {
        let silent = |c: &Controller| {
            let same = read.controllers.iter().find(|r| r.address == c.address);
            same.and_then(|r| r.silent.clone())
        };
        let known = self.controllers.iter().map(|c| Controller {
            silent: silent(c),
            ..c.clone()
        });
        Array {
            name: self.name.clone(),
            note: self.note.clone(),
            site: self.site,
            controllers: known.collect(),
            user: self.user.clone(),
            key: self.key,
            left: self.left.clone(),
            found: self.found.clone(),
            served: self.still_served(read),
            ..read.clone()
        }
    }
    /// What is said as before has been so since then.
    fn still_served(&self, read: &Array) -> BTreeMap<VolumeId, Served> {
        let since = |(id, now): (&VolumeId, &Served)| {
            let next = match self.served.get(id) {
                Some(held) if held.says_as(now) => held.clone(),
                Some(held) => Served {
                    before: Some(Box::new(held.service.clone())),
                    ..now.clone()
                },
                None => now.clone(),
            };
            (*id, next)
        };
        read.served.iter().map(since).collect()
    }
    /// The volumes of ours for which it does something else than before, with what it did.
    pub fn serves_otherwise<'a>(
        &'a self,
        before: &'a Array,
    ) -> impl Iterator<Item = (VolumeId, &'a Served, &'a Served)> {
        self.served.iter().filter_map(|(id, now)| {
            let was = before.served.get(id).filter(|b| !b.says_as(now))?;
            Some((*id, was, now))
        })
    }
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
