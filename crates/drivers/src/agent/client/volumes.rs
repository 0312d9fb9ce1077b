//! Volumes as a host sees them.

use super::{Agent, Stamp, at_volume};
use crate::agent::wire::{Machine, Storage, WireImage, WirePath};
use reqwest::Method;
use serde::Deserialize;
use serde_json::json;
use zastrugi_core::runs::Fault;

#[derive(Deserialize)]
pub(crate) struct Seen {
    pub(crate) machines: Vec<Machine>,
    #[serde(default)]
    pub(crate) images: Vec<WireImage>,
    /// How the host reaches the volume that it mounted.
    #[serde(default)]
    pub(crate) paths: Vec<WirePath>,
}

#[derive(Deserialize)]
pub(crate) struct LoggedIn {
    #[serde(rename = "in")]
    pub(crate) live: Vec<String>,
    #[serde(default)]
    pub(crate) dead: Vec<String>,
}

impl Agent<'_> {
    /// What is offered to the host, mounted or not.
    pub(crate) async fn storage(&self) -> Result<Storage, Fault> {
        self.get("/v1/storage").await
    }

    /// Logs in on every portal that answers; says which did and which didn't.
    pub(crate) async fn log_in(
        &self,
        stamp: Stamp<'_>,
        portals: &[String],
    ) -> Result<LoggedIn, Fault> {
        let body = json!({"portals": portals});
        self.put("/v1/storage/logins", stamp, body).await
    }

    pub(crate) async fn format(
        &self,
        stamp: Stamp<'_>,
        uid: &str,
        name: &str,
        cluster: &str,
    ) -> Result<(), Fault> {
        let body = json!({"name": name, "cluster": cluster});
        self.tell(
            Method::POST,
            at_volume(uid, "format"),
            Some(stamp),
            Some(body),
        )
        .await
    }

    pub(crate) async fn take(
        &self,
        stamp: Stamp<'_>,
        uid: &str,
        cluster: &str,
        over: Option<&str>,
    ) -> Result<(), Fault> {
        let body = json!({"cluster": cluster, "over": over});
        self.tell(
            Method::PUT,
            at_volume(uid, "owner"),
            Some(stamp),
            Some(body),
        )
        .await
    }

    pub(crate) async fn disown(&self, stamp: Stamp<'_>, uid: &str) -> Result<(), Fault> {
        self.tell(
            Method::DELETE,
            at_volume(uid, "owner"),
            Some(stamp),
            Some(json!({})),
        )
        .await
    }

    pub(crate) async fn mount(
        &self,
        stamp: Stamp<'_>,
        uid: &str,
        cluster: &str,
    ) -> Result<Seen, Fault> {
        let path = at_volume(uid, "mount");
        let body = json!({"cluster": cluster});
        self.put(path, stamp, body).await
    }

    pub(crate) async fn unmount(&self, stamp: Stamp<'_>, uid: &str) -> Result<(), Fault> {
        self.tell(
            Method::DELETE,
            at_volume(uid, "mount"),
            Some(stamp),
            Some(json!({})),
        )
        .await
    }

    pub(crate) async fn fill(&self, stamp: Stamp<'_>, uid: &str) -> Result<(), Fault> {
        self.tell(
            Method::POST,
            at_volume(uid, "grow"),
            Some(stamp),
            Some(json!({})),
        )
        .await
    }
}
