//! Stores of backups, outside everything that is backed up, and what lies in them of each machine.

use super::{Consistent, Estate, Machine};
use crate::{
    ids::{SecretRef, SeriesId, SiteId, StoreId},
    moment::{Moment, Span},
    units::{Bytes, Rate, round},
};
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use uuid::Uuid;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Store {
    pub id: StoreId,
    pub name: String,
    /// Where its bytes lie.
    pub site: SiteId,
    /// What it calls itself.
    pub uuid: Uuid,
    pub bucket: Bucket,
    /// What opens it; none: it is not made yet.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key: Option<SecretRef>,
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub ready: bool,
    /// When somebody last took its key out, to keep it elsewhere: without it nothing comes out of the store once this manager is gone.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub taken_out: Option<Moment>,
}

/// A bucket of a server that speaks S3, or a folder in one.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Bucket {
    /// `ip:port`
    pub address: String,
    /// SHA-256 of the server's public key.
    pub pin: String,
    pub region: String,
    pub name: String,
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub folder: String,
    /// The name of the access key.
    pub access: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub secret: Option<SecretRef>,
}

/// What a store has of one machine, also when that is gone.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Series {
    pub id: SeriesId,
    pub store: StoreId,
    /// The machine's own identity.
    pub machine: Uuid,
    /// As it was called when the newest was taken.
    pub name: String,
    /// Oldest first.
    pub points: Vec<StoredPoint>,
}

/// A recovery point in a store.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct StoredPoint {
    pub session: Uuid,
    /// When the disks were so.
    pub taken: Moment,
    pub consistent: Consistent,
    /// Of all disks that it holds.
    pub size: Bytes,
    /// Read for it.
    pub read: Bytes,
    /// What the store did not have before, as it lies there.
    pub stored: Bytes,
    /// From the first byte to the last.
    pub took: Span,
}

impl Bucket {
    /// As it is written in one line.
    pub fn words(&self) -> String {
        let folder = if self.folder.is_empty() {
            String::new()
        } else {
            format!("/{}", self.folder)
        };
        format!("https://{}/{}{folder}", self.address, self.name)
    }
}

impl Series {
    pub fn newest(&self) -> Option<&StoredPoint> {
        self.points.last()
    }
    pub fn get(&self, session: Uuid) -> Option<&StoredPoint> {
        self.points.iter().find(|p| p.session == session)
    }
    /// What it takes in the store, without what other machines have too.
    pub fn stored(&self) -> Bytes {
        self.points.iter().map(|p| p.stored).sum()
    }
    pub fn add(&mut self, point: StoredPoint) {
        self.points.retain(|p| p.session != point.session);
        self.points.push(point);
        self.points.sort_by_key(|p| p.taken);
    }
}

impl StoredPoint {
    /// How fast it was copied; none where it took no time that could be measured.
    pub fn rate(&self) -> Option<Rate> {
        let bytes = self.read.as_f64() / (self.took.0 as f64) * 1000.0;
        (self.took.0 > 0 && self.read > Bytes::ZERO).then(|| Rate(round(bytes)))
    }
}

impl Estate {
    pub fn store_named(&self, name: &str) -> Option<&Arc<Store>> {
        self.stores.values().find(|s| s.name == name)
    }
    /// What stores have of a machine, by number.
    pub fn backups_of<'a>(
        &'a self,
        machine: &Machine,
    ) -> impl Iterator<Item = &'a Arc<Series>> + use<'a> {
        self.backups_with(machine.uuid)
    }
    /// The same of a machine by its own identity, also when it is gone.
    pub fn backups_with(&self, machine: Uuid) -> impl Iterator<Item = &Arc<Series>> {
        let ids = self.index.backups.all(&machine);
        ids.filter_map(|id| self.series.get(id))
    }
    /// What one store has of it.
    pub fn backups_at<'a>(&'a self, machine: &Machine, store: StoreId) -> Option<&'a Arc<Series>> {
        self.backups_of(machine).find(|s| s.store == store)
    }
    /// What a store has, by machine.
    pub fn series_in(&self, store: StoreId) -> impl Iterator<Item = &Arc<Series>> {
        self.series.values().filter(move |s| s.store == store)
    }
}
