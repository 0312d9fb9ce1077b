//! Volumes of the hosts' own disks.

use super::{Agent, Stamp, segment};
use crate::agent::wire::WirePool;
use reqwest::Method;
use serde::Deserialize;
use serde_json::json;
use zastrugi_core::{moment::Span, runs::Fault};

/// What a host lends.
#[derive(Deserialize)]
pub(crate) struct Lent {
    pub(crate) uid: String,
    /// Bytes.
    pub(crate) raw: u64,
}

impl Agent<'_> {
    /// Makes one, with the host as its first.
    pub(crate) async fn begin_pool(
        &self,
        stamp: Stamp<'_>,
        name: &str,
        (copies, wait): (u8, Span),
        domain: &str,
    ) -> Result<Lent, Fault> {
        let body =
            json!({"name": name, "copies": copies, "wait_s": wait.0 / 1000, "domain": domain});
        self.post("/v1/pools", stamp, body).await
    }

    /// Lends the host's free disks to one that a peer takes part in.
    pub(crate) async fn lend(
        &self,
        stamp: Stamp<'_>,
        uid: &str,
        domain: &str,
        peers: &[String],
    ) -> Result<Lent, Fault> {
        let body = json!({"domain": domain, "peers": peers});
        self.put(at_pool(uid, "/share"), stamp, body).await
    }

    pub(crate) async fn pool(&self, uid: &str) -> Result<WirePool, Fault> {
        self.get(at_pool(uid, "")).await
    }

    pub(crate) async fn give_back(&self, stamp: Stamp<'_>, uid: &str) -> Result<(), Fault> {
        self.tell(
            Method::DELETE,
            at_pool(uid, "/share"),
            Some(stamp),
            Some(json!({})),
        )
        .await
    }

    /// Tells the others to go on without a host.
    pub(crate) async fn expel(
        &self,
        stamp: Stamp<'_>,
        uid: &str,
        serial: &str,
    ) -> Result<(), Fault> {
        let path = at_pool(uid, &format!("/members/{}", segment(serial)));
        self.tell(Method::DELETE, path, Some(stamp), Some(json!({})))
            .await
    }
}

fn at_pool(uid: &str, what: &str) -> String {
    format!("/v1/pools/{}{what}", segment(uid))
}
