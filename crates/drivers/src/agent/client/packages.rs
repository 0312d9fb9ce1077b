//! Files packed of disks, and disks written from files.

use super::{Agent, Stamp, at_volume};
use crate::agent::wire::WireCopying;
use reqwest::Method;
use serde_json::Value;
use uuid::Uuid;
use zastrugi_core::runs::Fault;

impl Agent<'_> {
    /// Begins to pack disks into a file, or answers how far that is.
    pub(crate) async fn pack(
        &self,
        stamp: Stamp<'_>,
        (volume, image): (&str, &Uuid),
        body: Value,
    ) -> Result<WireCopying, Fault> {
        let path = at_volume(volume, &format!("images/{image}/pack"));
        self.put(path, stamp, body).await
    }

    /// Begins to write a disk from a file, or answers how far that is.
    pub(crate) async fn write_disk(
        &self,
        stamp: Stamp<'_>,
        (machine, disk): (&Uuid, &Uuid),
        body: Value,
    ) -> Result<WireCopying, Fault> {
        let path = format!("/v1/machines/{machine}/disks/{disk}/fill");
        self.put(path, stamp, body).await
    }

    /// Begins to copy a disk of another machine to one of this, or answers how far that is.
    pub(crate) async fn copy_disk(
        &self,
        stamp: Stamp<'_>,
        (machine, disk): (&Uuid, &Uuid),
        body: Value,
    ) -> Result<WireCopying, Fault> {
        let path = format!("/v1/machines/{machine}/disks/{disk}/copy");
        self.put(path, stamp, body).await
    }

    /// Nobody wants it any more.
    pub(crate) async fn end_copy_of_disk(
        &self,
        stamp: Stamp<'_>,
        (machine, disk): (&Uuid, &Uuid),
    ) -> Result<(), Fault> {
        let path = format!("/v1/machines/{machine}/disks/{disk}/copy");
        self.tell(Method::DELETE, path, Some(stamp), None).await
    }
}
