//! Stores of backups, outside everything that is backed up, and what lies in them of each machine.

use super::{Consistent, Estate, FirmwareKind, Machine};
use crate::{
    finding::{Finding, Rule},
    ids::{JobId, SecretRef, SeriesId, SiteId, StoreId},
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
    #[serde(alias = "bucket")]
    pub lies: Lies,
    /// What opens it; none: it is not made yet.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key: Option<SecretRef>,
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub ready: bool,
    /// For so long nobody can take away what is written to it (object lock); none: whoever may write to it can.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lock: Option<Span>,
    /// When somebody last took its key out, to keep it elsewhere: without it nothing comes out of the store once this manager is gone.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub taken_out: Option<Moment>,
    /// When what nobody needs was last taken away.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub swept: Option<Moment>,
}

/// Where a store lies.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(untagged)]
pub enum Lies {
    Bucket(Bucket),
    Export(Export),
}

/// A file system that is mounted wherever this manager's processes run, or a folder in it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Export {
    /// As it is called beneath the directory of exports.
    pub export: String,
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub folder: String,
}

impl Lies {
    /// As it is written in one line.
    pub fn words(&self) -> String {
        match self {
            Lies::Bucket(bucket) => bucket.words(),
            Lies::Export(e) if e.folder.is_empty() => format!("export {}", e.export),
            Lies::Export(e) => format!("export {}/{}", e.export, e.folder),
        }
    }
    pub fn bucket(&self) -> Option<&Bucket> {
        match self {
            Lies::Bucket(bucket) => Some(bucket),
            Lies::Export(_) => None,
        }
    }
    pub fn secret(&self) -> Option<SecretRef> {
        self.bucket().and_then(|b| b.secret)
    }
    /// Whether both are the same place.
    pub fn is(&self, other: &Lies) -> bool {
        match (self, other) {
            (Lies::Bucket(a), Lies::Bucket(b)) => {
                (&a.address, &a.name, &a.folder) == (&b.address, &b.name, &b.folder)
            }
            (Lies::Export(a), Lies::Export(b)) => a == b,
            (Lies::Bucket(_), Lies::Export(_)) | (Lies::Export(_), Lies::Bucket(_)) => false,
        }
    }
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
    /// Which job made it; none: somebody did by hand.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub job: Option<JobId>,
    /// Until then somebody wanted it; none: until somebody lets it go, or its job does.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ends: Option<Moment>,
    /// Until then nobody can take it away, by the clock of the store's server; none: it is not locked.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub locked: Option<Moment>,
    /// Points with the same one are of one instant.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub group: Option<Uuid>,
    /// When everything was last read for a point of this place; none: nobody knows.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub whole: Option<super::Whole>,
    /// That both sides hold the same was looked at afterwards.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub equal: Option<Equal>,
    /// What came of a copy of it that was booted; none: nobody tried.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub proof: Option<Box<super::Proof>>,
}

/// What both sides said of what they hold, by SHA-256 of each extent of 4 MiB that the last copy touched, was the same.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Equal {
    pub at: Moment,
    /// How many were read at both sides.
    pub extents: u64,
    /// Those are all that there are.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub all: bool,
}

/// Which recovery point.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct PointAt {
    pub store: StoreId,
    /// The identity of the machine that it is of.
    pub machine: Uuid,
    pub session: Uuid,
}

/// A machine as a point has it, read from its store.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Kept {
    pub name: String,
    pub vcpus: u32,
    pub memory: Bytes,
    pub firmware: FirmwareKind,
    /// Hardware addresses, with what their networks were called.
    pub cards: Vec<(String, String)>,
    pub labels: Vec<(String, String)>,
    pub note: String,
    pub disks: Vec<KeptDisk>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct KeptDisk {
    pub key: Uuid,
    pub size: Bytes,
    /// In chunks that hold something; the whole size where nobody counted them.
    pub held: Bytes,
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
    /// Whether nobody can take it away yet.
    pub fn is_locked(&self, now: Moment) -> bool {
        self.locked.is_some_and(|until| until > now)
    }
    /// How fast it was copied; none where it took no time that could be measured.
    pub fn rate(&self) -> Option<Rate> {
        let bytes = self.read.as_f64() / (self.took.0 as f64) * 1000.0;
        (self.took.0 > 0 && self.read > Bytes::ZERO).then(|| Rate(round(bytes)))
    }
}

impl std::fmt::Display for PointAt {
    /// `point-3.` with the identities of machine and session.
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let (machine, session) = (self.machine.simple(), self.session.simple());
        write!(f, "point-{}.{machine}.{session}", self.store.0)
    }
}

impl std::str::FromStr for PointAt {
    type Err = ();

    fn from_str(text: &str) -> Result<PointAt, ()> {
        let mut parts = text.strip_prefix("point-").ok_or(())?.split('.');
        let mut part = || parts.next().ok_or(());
        let (store, machine, session) = (part()?, part()?, part()?);
        let at = PointAt {
            store: StoreId(store.parse().map_err(drop)?),
            machine: machine.parse().map_err(drop)?,
            session: session.parse().map_err(drop)?,
        };
        match parts.next() {
            None => Ok(at),
            Some(_) => Err(()),
        }
    }
}

impl PointAt {
    /// The store and the point, as they are known.
    ///
    /// # Errors
    /// Which of them is gone, as a finding without a field.
    pub fn found(self, estate: &Estate) -> Result<(&Store, &StoredPoint), Finding> {
        let stop = |text: &str| Err(Finding::stop(Rule::Exists, "recovery point", text));
        let Some(store) = estate.stores.get(&self.store) else {
            return stop("The store is gone.");
        };
        let series = estate
            .backups_with(self.machine)
            .find(|s| s.store == self.store);
        match series.and_then(|s| s.get(self.session)) {
            Some(point) => Ok((store, point)),
            None => stop("There is no such recovery point any more."),
        }
    }

    /// What people call it.
    pub fn words(self, estate: &Estate) -> String {
        let named = estate.backups_with(self.machine).next();
        let of = named.map_or("a machine", |s| s.name.as_str());
        let taken = self.found(estate).ok().map(|(_, p)| p.taken.stamp());
        match taken {
            Some(taken) => format!("{of} as of {taken} UTC"),
            None => format!("a recovery point of {of}"),
        }
    }
}

impl Kept {
    /// In chunks that hold something.
    pub fn held(&self) -> Bytes {
        self.disks.iter().map(|d| d.held).sum()
    }
}

impl Estate {
    pub fn store_named(&self, name: &str) -> Option<&Arc<Store>> {
        self.stores.values().find(|s| s.name == name)
    }
    /// A store, if copies can be written to it.
    ///
    /// # Errors
    /// Why not, as a finding without a field.
    pub fn store_for_copies(&self, id: Option<StoreId>) -> Result<&Arc<Store>, Finding> {
        let stop = |text: String| Err(Finding::stop(Rule::Exists, "store", text));
        match id.and_then(|id| self.stores.get(&id)) {
            Some(store) if store.ready => Ok(store),
            Some(store) => stop(format!("{} is being made.", store.name)),
            None if self.stores.is_empty() => {
                stop("There is no store yet; make one first, under Protect.".into())
            }
            None => stop("Choose the store.".into()),
        }
    }
    /// What stores have of a machine, by number.
    pub fn backups_of<'a>(
        &'a self,
        machine: &Machine,
    ) -> impl Iterator<Item = &'a Arc<Series>> + use<'a> {
        let all = self.identities(machine).into_iter();
        all.flat_map(move |uuid| self.backups_with(uuid))
    }
    /// The same of a machine by its own identity, also when it is gone.
    pub fn backups_with(&self, machine: Uuid) -> impl Iterator<Item = &Arc<Series>> {
        let ids = self.index.backups.all(&machine);
        ids.filter_map(|id| self.series.get(id))
    }
    /// What one store has of it as it lies now: the next copy goes on there.
    pub fn backups_at<'a>(&'a self, machine: &Machine, store: StoreId) -> Option<&'a Arc<Series>> {
        self.backups_with(machine.uuid).find(|s| s.store == store)
    }
    /// Points whose time is over; not those that nobody can take away yet.
    pub fn over(
        &self,
        store: StoreId,
        now: Moment,
    ) -> impl Iterator<Item = (PointAt, &StoredPoint)> {
        let over =
            move |p: &&StoredPoint| p.ends.is_some_and(|ends| ends <= now) && !p.is_locked(now);
        self.series_in(store).flat_map(move |s| {
            let at = |p: &StoredPoint| PointAt {
                store: s.store,
                machine: s.machine,
                session: p.session,
            };
            s.points.iter().filter(over).map(move |p| (at(p), p))
        })
    }
    /// What a store has, by machine.
    pub fn series_in(&self, store: StoreId) -> impl Iterator<Item = &Arc<Series>> {
        self.series.values().filter(move |s| s.store == store)
    }
}
