//! What movers ask of a host: marks, what changed, and bytes of disks.

use super::{Agent, Stamp};
use crate::agent::wire::snapshots::bitmap;
use reqwest::Method;
use roaring::RoaringBitmap;
use serde::Deserialize;
use serde_json::json;
use uuid::Uuid;
use zastrugi_core::{layers::GRAIN, limits, runs::Fault};

/// The blocks of a machine's disks, as a snapshot has them.
#[derive(Debug, Deserialize)]
pub(crate) struct WireBlocks {
    grain: u64,
    disks: Vec<WireDisk>,
}

#[derive(Debug, Deserialize)]
struct WireDisk {
    key: Uuid,
    size: u64,
    held: Vec<String>,
    #[serde(default)]
    changed: Option<Vec<String>>,
}

/// One disk as a snapshot has it.
pub(crate) struct Blocks {
    pub(crate) key: Uuid,
    /// Bytes.
    pub(crate) size: u64,
    pub(crate) held: RoaringBitmap,
    /// Since the earlier mark; none: the host can't say.
    pub(crate) changed: Option<RoaringBitmap>,
}

impl WireBlocks {
    /// # Errors
    /// What is wrong with them, in words.
    pub(crate) fn read(self) -> Result<Vec<Blocks>, String> {
        if self.grain != GRAIN.0 {
            return Err(format!("its blocks have {} bytes, not {GRAIN}", self.grain));
        }
        let disk = |d: WireDisk| {
            Ok(Blocks {
                key: d.key,
                size: limits::FIGURE_DISK
                    .most
                    .min(usize::try_from(d.size).unwrap_or(usize::MAX))
                    as u64,
                held: bitmap(&d.held)?,
                changed: d.changed.as_deref().map(bitmap).transpose()?,
            })
        };
        self.disks
            .into_iter()
            .take(limits::DISKS.most)
            .map(disk)
            .collect()
    }
}

#[derive(Deserialize)]
struct Digests {
    digests: Vec<String>,
}

impl Agent<'_> {
    /// The SHA-256 of extents of 4 MiB of a disk, as a snapshot has them, in hexadecimal; empty where one holds nothing, and none
    /// beyond the end of the disk. Up to 64 at once.
    pub(crate) async fn digests(
        &self,
        machine: &Uuid,
        snapshot: &Uuid,
        disk: &Uuid,
        (from, count): (u64, u64),
    ) -> Result<Vec<String>, Fault> {
        let path = format!(
            "/v1/machines/{machine}/marks/{snapshot}/digests?disk={disk}&from={from}&count={count}"
        );
        let said: Digests = self.get(path).await?;
        Ok(said.digests)
    }

    /// From now on the host can tell what changed since this snapshot.
    pub(crate) async fn mark(
        &self,
        stamp: Stamp<'_>,
        machine: &Uuid,
        snapshot: &Uuid,
    ) -> Result<(), Fault> {
        let path = format!("/v1/machines/{machine}/marks/{snapshot}");
        self.tell(Method::PUT, path, Some(stamp), Some(json!({})))
            .await
    }

    /// Nobody asks any more what changed since this snapshot.
    pub(crate) async fn release_mark(
        &self,
        stamp: Stamp<'_>,
        machine: &Uuid,
        snapshot: &Uuid,
    ) -> Result<(), Fault> {
        let path = format!("/v1/machines/{machine}/marks/{snapshot}");
        self.tell(Method::DELETE, path, Some(stamp), None).await
    }

    pub(crate) async fn blocks(
        &self,
        machine: &Uuid,
        snapshot: &Uuid,
        since: Option<Uuid>,
    ) -> Result<WireBlocks, Fault> {
        let since = since.map_or_else(String::new, |s| format!("?since={s}"));
        self.get(format!(
            "/v1/machines/{machine}/marks/{snapshot}/blocks{since}"
        ))
        .await
    }

    /// Bytes of a disk, counted from zero, as the snapshot has them; exactly so many, and 4 MiB at most.
    pub(crate) async fn extent(
        &self,
        machine: &Uuid,
        snapshot: &Uuid,
        disk: &Uuid,
        (from, length): (u64, u64),
    ) -> Result<Vec<u8>, Fault> {
        let path = format!(
            "/v1/machines/{machine}/marks/{snapshot}/bytes?disk={disk}&from={from}&length={length}"
        );
        let bytes = self
            .http
            .fetch_long(&self.ask(Method::GET, path, None, None))
            .await?;
        match bytes.len() as u64 == length {
            true => Ok(bytes),
            false => Err(crate::fault::garbled(
                self.name,
                "an extent of another length",
            )),
        }
    }
}
