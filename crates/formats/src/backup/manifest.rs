//! A recovery point in a store: the machine as it was, and where the bytes of its disks lie. As JSON; its schema is
//! `docs/store-manifest.schema.json`.

use super::{ChunkId, ChunkRef, Damaged, FORMAT};
use serde::{Deserialize, Serialize};
use uuid::Uuid;

/// More disks are of no machine; more pages are in no manifest (512 TiB).
const DISKS: usize = 64;
const PAGES: usize = 32_768;
/// No disk is larger, in bytes.
const LARGEST: u64 = 1 << 56;

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Consistency {
    /// It was off.
    Off,
    /// Its file systems stood still.
    Quiet,
    /// As after a power cut.
    Crash,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Manifest {
    pub format: String,
    pub store: Uuid,
    /// Whose chunks these are: equal bytes of different owners are stored twice.
    pub scope: String,
    pub session: Uuid,
    /// The point that this one was read against; it can be gone.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub parent: Option<Uuid>,
    /// Milliseconds since 1970: when the disks were as they are here, never when the copy was done.
    pub instant: u64,
    pub consistency: Consistency,
    pub machine: Machine,
    pub disks: Vec<Disk>,
    pub measured: Measured,
    /// None: whoever may write to the store may take it away.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub locked: Option<Locked>,
}

/// Until when nobody can take a point away, in milliseconds since 1970 by the clock of the store's server.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Locked {
    /// The manifest itself.
    pub until: u64,
    /// Every chunk and page that it names, at least; never before `until`.
    pub needs: u64,
}

/// What is needed to make it again.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Machine {
    pub uuid: Uuid,
    pub name: String,
    pub vcpus: u32,
    /// Bytes.
    pub memory: u64,
    /// `bios` or `uefi`.
    pub firmware: String,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub cards: Vec<Card>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub labels: Vec<Label>,
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub note: String,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Card {
    pub mac: String,
    pub network: String,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Label {
    pub key: String,
    pub value: String,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Disk {
    pub key: Uuid,
    /// Bytes.
    pub size: u64,
    /// Ascending; a page that is not named is all zeros.
    pub pages: Vec<PageAt>,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PageAt {
    /// Which run of 4,096 grains of the disk.
    pub at: u64,
    /// The page's own name.
    pub id: String,
    #[serde(default, skip_serializing_if = "is_zero")]
    pub suffix: u32,
}

// Serde gives a reference.
#[expect(clippy::trivially_copy_pass_by_ref)]
fn is_zero(n: &u32) -> bool {
    *n == 0
}

/// Bytes and time of the copy.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Measured {
    /// Read of its disks.
    pub read: u64,
    /// Of them, in chunks that the store did not have.
    pub fresh: u64,
    /// What these take there, packed and sealed.
    pub stored: u64,
    /// Milliseconds from the first byte to the last.
    pub took: u64,
}

impl Manifest {
    /// # Errors
    /// [`Damaged::Content`]: this is no manifest of this version, or one that contradicts itself.
    pub fn read(bytes: &[u8]) -> Result<Manifest, Damaged> {
        let read: Manifest = serde_json::from_slice(bytes).map_err(|_| Damaged::Content)?;
        let ascending = |d: &Disk| d.pages.windows(2).all(|w| w[0].at < w[1].at);
        let fits = |d: &Disk| {
            let run = super::GRAIN * super::PAGE;
            let last = d.pages.last().is_none_or(|p| p.at < d.size.div_ceil(run));
            last && d.size <= LARGEST && d.pages.iter().all(|p| p.chunk().is_some())
        };
        let sound = read.format == FORMAT
            && read.disks.iter().map(|d| d.pages.len()).sum::<usize>() <= PAGES
            && read.disks.len() <= DISKS
            && read.locked.is_none_or(|l| l.until <= l.needs)
            && read.disks.iter().all(|d| ascending(d) && fits(d));
        match sound {
            true => Ok(read),
            false => Err(Damaged::Content),
        }
    }

    /// # Errors
    /// [`Damaged::Content`] where it can't be written.
    pub fn bytes(&self) -> Result<Vec<u8>, Damaged> {
        serde_json::to_vec(self).map_err(|_| Damaged::Content)
    }

    /// What its disks have in all, in bytes.
    pub fn size(&self) -> u64 {
        self.disks.iter().map(|d| d.size).sum()
    }
}

impl PageAt {
    pub fn new(at: u64, chunk: ChunkRef) -> PageAt {
        PageAt {
            at,
            id: chunk.id.to_string(),
            suffix: chunk.suffix,
        }
    }
    pub fn chunk(&self) -> Option<ChunkRef> {
        let id: ChunkId = self.id.parse().ok()?;
        Some(ChunkRef {
            id,
            suffix: self.suffix,
        })
    }
}
