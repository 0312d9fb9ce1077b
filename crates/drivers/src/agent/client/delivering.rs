//! Disks that a mover brings onto a volume, piece by piece, until they become disks of a machine.

use super::{Agent, Stamp, at_volume};
use crate::{agent::wire::snapshots::bitmap, http::Call};
use base64::{Engine, prelude::BASE64_STANDARD};
use reqwest::Method;
use roaring::RoaringBitmap;
use serde::{Deserialize, Serialize};
use serde_json::json;
use sha2::{Digest, Sha256};
use uuid::Uuid;
use zastrugi_core::{layers::GRAIN, limits, runs::Fault};

/// What lies there of a delivery.
#[derive(Debug, Deserialize)]
pub(crate) struct WireDelivery {
    disks: Vec<WireDisk>,
}

#[derive(Debug, Deserialize)]
struct WireDisk {
    key: Uuid,
    confirmed: Vec<String>,
}

/// Of one disk.
pub(crate) struct Delivered {
    pub(crate) key: Uuid,
    /// Blocks that were brought, whatever they hold.
    confirmed: RoaringBitmap,
}

/// Where a disk of a delivery goes.
#[derive(Debug, Serialize)]
pub(crate) struct Placing {
    pub(crate) from: Uuid,
    pub(crate) onto: Uuid,
    pub(crate) new: bool,
    pub(crate) size: u64,
    pub(crate) thick: bool,
}

/// What becomes of a delivery that a replica is brought up to date by.
#[derive(Debug, Serialize)]
pub(crate) struct Following<'a> {
    pub(crate) volume: &'a str,
    pub(crate) delivery: Uuid,
    /// The point that it stands on; none: it holds what is brought and nothing else.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) base: Option<Uuid>,
    pub(crate) point: Uuid,
    pub(crate) name: &'a str,
    pub(crate) taken_ms: i64,
    pub(crate) quiet: bool,
    pub(crate) off: bool,
    pub(crate) disks: Vec<FollowedDisk>,
}

#[derive(Debug, Serialize)]
pub(crate) struct FollowedDisk {
    pub(crate) from: Uuid,
    pub(crate) onto: Uuid,
    pub(crate) size: u64,
}

#[derive(Deserialize)]
struct InPlace {
    bytes: u64,
}

impl WireDelivery {
    /// # Errors
    /// What is wrong with it, in words.
    pub(crate) fn read(self) -> Result<Vec<Delivered>, String> {
        let disk = |d: WireDisk| {
            Ok(Delivered {
                key: d.key,
                confirmed: bitmap(&d.confirmed)?,
            })
        };
        let all = self.disks.into_iter().take(limits::DISKS.most);
        all.map(disk).collect()
    }
}

impl Delivered {
    /// Whether all of so many bytes from there on were brought.
    pub(crate) fn has(&self, at: u64, length: u64) -> bool {
        let block = |n: u64| u32::try_from(n).unwrap_or(u32::MAX);
        let blocks = block(at / GRAIN.0)..block((at + length).div_ceil(GRAIN.0));
        let wanted = blocks.end.saturating_sub(blocks.start);
        self.confirmed.range_cardinality(blocks) == u64::from(wanted)
    }
}

fn at((uid, delivery): (&str, &Uuid), rest: &str) -> String {
    at_volume(uid, &format!("deliveries/{delivery}{rest}"))
}

impl Agent<'_> {
    /// Room is held for it from now on; asked again, it is as it was.
    pub(crate) async fn begin_delivery(
        &self,
        stamp: Stamp<'_>,
        to: (&str, &Uuid),
        disks: &[(Uuid, u64)],
        bytes: u64,
    ) -> Result<(), Fault> {
        let disk = |(key, size): &(Uuid, u64)| json!({"key": key, "size": size});
        let disks: Vec<_> = disks.iter().map(disk).collect();
        let body = json!({"disks": disks, "bytes": bytes});
        self.tell(Method::PUT, at(to, ""), Some(stamp), Some(body))
            .await
    }

    pub(crate) async fn delivery(&self, to: (&str, &Uuid)) -> Result<WireDelivery, Fault> {
        self.get(at(to, "")).await
    }

    /// A piece of a disk, 4 MiB at most; the far end compares it with its digest (RFC 9530) before it says that it has it.
    pub(crate) async fn deliver(
        &self,
        to: (&str, &Uuid),
        disk: &Uuid,
        from: u64,
        (bytes, packed): (bytes::Bytes, bool),
    ) -> Result<(), Fault> {
        let path = at(to, &format!("/disks/{disk}/bytes?from={from}"));
        let digest = BASE64_STANDARD.encode(Sha256::digest(&bytes));
        let mut call = Call {
            bytes: Some(bytes),
            ..self.ask(Method::PUT, path, None, None)
        };
        let digest = ("content-digest", format!("sha-256=:{digest}:"));
        call.headers.push(digest);
        if packed {
            call.headers.push(("content-encoding", "zstd".to_owned()));
        }
        self.http.call::<serde_json::Value>(call).await.map(drop)
    }

    /// A machine that is off holds what was brought, over the point that it stood on, and has a point of it. Answers how many bytes
    /// that are.
    pub(crate) async fn follow(
        &self,
        stamp: Stamp<'_>,
        machine: &Uuid,
        ask: &Following<'_>,
    ) -> Result<u64, Fault> {
        let body = serde_json::to_value(ask).unwrap_or_default();
        let path = format!("/v1/machines/{machine}/followed");
        let said: InPlace = self.put(path, stamp, body).await?;
        Ok(said.bytes)
    }

    pub(crate) async fn drop_delivery(
        &self,
        stamp: Stamp<'_>,
        to: (&str, &Uuid),
    ) -> Result<(), Fault> {
        self.tell(Method::DELETE, at(to, ""), Some(stamp), None)
            .await
    }

    /// All at once: disks of the machine hold what was brought. Answers how many bytes that are.
    pub(crate) async fn place_delivery(
        &self,
        stamp: Stamp<'_>,
        machine: &Uuid,
        (uid, delivery): (&str, &Uuid),
        disks: &[Placing],
    ) -> Result<u64, Fault> {
        let path = format!("/v1/machines/{machine}/delivered");
        let body = json!({"volume": uid, "delivery": delivery, "disks": disks});
        let said: InPlace = self.put(path, stamp, body).await?;
        Ok(said.bytes)
    }
}
