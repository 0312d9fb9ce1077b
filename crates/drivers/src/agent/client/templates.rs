//! Versions of templates on a volume, and machines that get disks of their own.

use super::{Agent, Stamp, at_volume};
use crate::agent::wire::WireCopying;
use reqwest::Method;
use serde_json::{Value, json};
use uuid::Uuid;
use zastrugi_core::runs::Fault;

impl Agent<'_> {
    /// Begins to copy a machine's disks to a new version, or answers how far that is.
    pub(crate) async fn make_version(
        &self,
        stamp: Stamp<'_>,
        (volume, version): (&str, &Uuid),
        body: Value,
    ) -> Result<WireCopying, Fault> {
        let path = at_volume(volume, &format!("templates/{version}"));
        self.put(path, stamp, body).await
    }

    /// Removes a version that nothing lies on, or ends its making.
    pub(crate) async fn remove_version(
        &self,
        stamp: Stamp<'_>,
        volume: &str,
        version: &Uuid,
    ) -> Result<(), Fault> {
        let path = at_volume(volume, &format!("templates/{version}"));
        self.tell(Method::DELETE, path, Some(stamp), None).await
    }

    /// Begins to copy what a machine has of a version into its own disks, or answers how far that is.
    pub(crate) async fn make_whole(
        &self,
        stamp: Stamp<'_>,
        machine: &Uuid,
        wanted: bool,
    ) -> Result<WireCopying, Fault> {
        let path = format!("/v1/machines/{machine}/whole");
        let body = json!({"wanted": wanted});
        let call = self.ask(Method::POST, path, Some(stamp), Some(body));
        self.http.call(call).await
    }
}
