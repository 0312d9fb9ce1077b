//! Disks and cards of a machine, and the disks of a volume that no machine has.

use super::{Agent, Stamp, at_volume};
use crate::agent::wire::Changed;
use reqwest::Method;
use serde_json::{Value, json};
use uuid::Uuid;
use zastrugi_core::{
    estate::{Disk, Provisioning},
    runs::Fault,
};

/// A card as an agent takes it.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize)]
pub(crate) struct Card {
    pub(crate) mac: String,
    /// The name of its network.
    pub(crate) network: Option<String>,
    /// What its guest has by what its disks hold; none: as it was, where its network stays.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) addresses: Option<Vec<std::net::IpAddr>>,
}

/// A disk as an agent takes it.
pub(super) fn disk(disk: &Disk) -> Value {
    let thick = disk.provisioning == Provisioning::Thick;
    json!({"key": disk.key, "size": disk.size.0, "thick": thick})
}

impl Agent<'_> {
    /// Gives the machine one more, empty.
    pub(crate) async fn add_disk(
        &self,
        stamp: Stamp<'_>,
        machine: &Uuid,
        new: &Disk,
    ) -> Result<Changed, Fault> {
        let path = format!("/v1/machines/{machine}/disks/{}", new.key);
        self.put(path, stamp, disk(new)).await
    }

    /// Takes one from it; it stays on its volume, `delete`d or not.
    pub(crate) async fn detach(
        &self,
        stamp: Stamp<'_>,
        machine: &Uuid,
        disk: &Uuid,
        delete: bool,
    ) -> Result<Changed, Fault> {
        let path = format!("/v1/machines/{machine}/disks/{disk}/detach");
        let body = json!({"delete": delete});
        let call = self.ask(Method::POST, path, Some(stamp), Some(body));
        self.http.call(call).await
    }

    /// Gives it one that no machine has.
    pub(crate) async fn attach(
        &self,
        stamp: Stamp<'_>,
        machine: &Uuid,
        disk: &Uuid,
    ) -> Result<Changed, Fault> {
        let path = format!("/v1/machines/{machine}/disks/{disk}/attach");
        let call = self.ask(Method::POST, path, Some(stamp), Some(json!({})));
        self.http.call(call).await
    }

    /// All cards that it has from now on, each with the name of its network.
    pub(crate) async fn cards(
        &self,
        stamp: Stamp<'_>,
        machine: &Uuid,
        cards: &[Card],
    ) -> Result<Changed, Fault> {
        let body = json!({"cards": cards});
        self.put(format!("/v1/machines/{machine}/cards"), stamp, body)
            .await
    }

    pub(crate) async fn mark_disk(
        &self,
        stamp: Stamp<'_>,
        volume: &str,
        disk: &Uuid,
        deleted: bool,
    ) -> Result<Changed, Fault> {
        let path = at_volume(volume, &format!("disks/{disk}"));
        let body = json!({"deleted": deleted});
        let call = self.ask(Method::PATCH, path, Some(stamp), Some(body));
        self.http.call(call).await
    }

    pub(crate) async fn purge_disk(
        &self,
        stamp: Stamp<'_>,
        volume: &str,
        disk: &Uuid,
    ) -> Result<Changed, Fault> {
        let path = at_volume(volume, &format!("disks/{disk}"));
        let call = self.ask(Method::DELETE, path, Some(stamp), None);
        self.http.call(call).await
    }
}
