//! Machines on their way from host to host, and disks from volume to volume.

use super::{Agent, Stamp};
use crate::agent::measured::{WireCopy, WireMove};
use reqwest::Method;
use serde::Deserialize;
use serde_json::{Value, json};
use uuid::Uuid;
use zastrugi_core::runs::Fault;

#[derive(Deserialize)]
pub(crate) struct Awaited {
    pub(crate) address: String,
    pub(crate) ticket: String,
}

impl Agent<'_> {
    /// Asks the destination to await a machine; answers where, and the word that its source must say.
    pub(crate) async fn arrive(
        &self,
        stamp: Stamp<'_>,
        uuid: &Uuid,
        from: &str,
    ) -> Result<Awaited, Fault> {
        let body = json!({"from": from});
        let path = format!("/v1/machines/{uuid}/arrival");
        self.put(path, stamp, body).await
    }

    pub(crate) async fn send_machine(
        &self,
        stamp: Stamp<'_>,
        uuid: &Uuid,
        body: Value,
    ) -> Result<WireMove, Fault> {
        let path = format!("/v1/machines/{uuid}/move");
        self.put(path, stamp, body).await
    }

    pub(crate) async fn sending(&self, uuid: &Uuid) -> Result<WireMove, Fault> {
        let path = format!("/v1/machines/{uuid}/move");
        self.get(path).await
    }

    pub(crate) async fn stop_sending(
        &self,
        stamp: Stamp<'_>,
        uuid: &Uuid,
    ) -> Result<WireMove, Fault> {
        let path = format!("/v1/machines/{uuid}/move");
        self.http
            .call(self.ask(Method::DELETE, path, Some(stamp), None))
            .await
    }

    pub(crate) async fn copying(&self, uuid: &Uuid) -> Result<WireCopy, Fault> {
        let path = format!("/v1/machines/{uuid}/disks");
        self.get(path).await
    }

    pub(crate) async fn copy_disks(
        &self,
        stamp: Stamp<'_>,
        uuid: &Uuid,
        to: &str,
    ) -> Result<WireCopy, Fault> {
        let path = format!("/v1/machines/{uuid}/disks");
        let body = json!({"to": to});
        self.put(path, stamp, body).await
    }

    pub(crate) async fn stop_copying(
        &self,
        stamp: Stamp<'_>,
        uuid: &Uuid,
    ) -> Result<WireCopy, Fault> {
        let path = format!("/v1/machines/{uuid}/disks");
        self.http
            .call(self.ask(Method::DELETE, path, Some(stamp), None))
            .await
    }
}
