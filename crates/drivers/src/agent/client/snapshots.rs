//! Snapshots of a machine, and the layers of its disks.

use super::{Agent, Stamp};
use crate::agent::wire::snapshots::{WireFold, WireHeld, WireLayers, WireStill, WireTaken};
use reqwest::Method;
use serde_json::json;
use uuid::Uuid;
use zastrugi_core::runs::Fault;

/// How one shall be taken.
pub(crate) struct Wish<'a> {
    pub(crate) name: &'a str,
    pub(crate) note: &'a str,
    pub(crate) quiet: bool,
    pub(crate) memory: bool,
    /// Only while its file systems stand still for this.
    pub(crate) frozen: Option<Uuid>,
}

impl Agent<'_> {
    pub(crate) async fn layers(&self, machine: &Uuid) -> Result<WireLayers, Fault> {
        self.get(format!("/v1/machines/{machine}/layers")).await
    }

    /// Takes it, or answers how far it is.
    pub(crate) async fn snapshot(
        &self,
        stamp: Stamp<'_>,
        machine: &Uuid,
        snapshot: &Uuid,
        wish: &Wish<'_>,
    ) -> Result<WireTaken, Fault> {
        let path = format!("/v1/machines/{machine}/snapshots/{snapshot}");
        let body = json!({"name": wish.name, "note": wish.note, "quiet": wish.quiet, "memory": wish.memory, "frozen": wish.frozen});
        self.put(path, stamp, body).await
    }

    /// Its file systems stand still, for so many milliseconds at most.
    pub(crate) async fn freeze(
        &self,
        stamp: Stamp<'_>,
        machine: &Uuid,
        id: &Uuid,
        for_ms: u64,
    ) -> Result<WireStill, Fault> {
        let path = format!("/v1/machines/{machine}/freezes/{id}");
        self.put(path, stamp, json!({"for_ms": for_ms})).await
    }

    /// They go on; whether they stood still all the time.
    pub(crate) async fn thaw(
        &self,
        stamp: Stamp<'_>,
        machine: &Uuid,
        id: &Uuid,
    ) -> Result<bool, Fault> {
        let path = format!("/v1/machines/{machine}/freezes/{id}");
        let ask = self.ask(Method::DELETE, path, Some(stamp), None);
        self.http.call::<WireHeld>(ask).await.map(|said| said.held)
    }

    pub(crate) async fn back(
        &self,
        stamp: Stamp<'_>,
        machine: &Uuid,
        snapshot: &Uuid,
    ) -> Result<(), Fault> {
        let path = format!("/v1/machines/{machine}/snapshots/{snapshot}/back");
        let ask = self.ask(Method::POST, path, Some(stamp), Some(json!({})));
        self.http.call::<serde_json::Value>(ask).await.map(drop)
    }

    /// Begins to fold them away, or answers how far that is.
    pub(crate) async fn forget_snapshots(
        &self,
        stamp: Stamp<'_>,
        machine: &Uuid,
        snapshots: &[Uuid],
    ) -> Result<WireFold, Fault> {
        let path = format!("/v1/machines/{machine}/forget");
        let body = json!({"snapshots": snapshots});
        let ask = self.ask(Method::POST, path, Some(stamp), Some(body));
        self.http.call(ask).await
    }
}
