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
        cards: &[(&str, Option<&str>)],
    ) -> Result<Changed, Fault> {
        let card = |(mac, network): &(&str, Option<&str>)| json!({"mac": mac, "network": network});
        let body = json!({"cards": cards.iter().map(card).collect::<Vec<_>>()});
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
