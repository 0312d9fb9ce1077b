//! Disks that several machines have.

use super::{Agent, Stamp, at_volume};
use crate::agent::wire::Changed;
use reqwest::Method;
use serde_json::json;
use uuid::Uuid;
use zastrugi_core::{
    estate::{Provisioning, Slot},
    runs::Fault,
    units::Bytes,
};

/// A shared disk as it shall be made.
pub(crate) struct NewShared<'a> {
    pub(crate) name: &'a str,
    pub(crate) size: Bytes,
    pub(crate) provisioning: Provisioning,
    pub(crate) slot: Slot,
    /// From the unattached disk of the same identity.
    pub(crate) kept: bool,
}

impl Agent<'_> {
    pub(crate) async fn make_shared(
        &self,
        stamp: Stamp<'_>,
        volume: &str,
        disk: &Uuid,
        new: &NewShared<'_>,
    ) -> Result<Changed, Fault> {
        let thick = new.provisioning == Provisioning::Thick;
        let body = json!({"name": new.name, "size": new.size.0, "thick": thick, "controller": new.slot.controller,
            "unit": new.slot.unit, "kept": new.kept});
        self.put(at_volume(volume, &format!("shared/{disk}")), stamp, body)
            .await
    }

    /// Lets it lie unattached.
    pub(crate) async fn end_shared(
        &self,
        stamp: Stamp<'_>,
        volume: &str,
        disk: &Uuid,
    ) -> Result<Changed, Fault> {
        let path = at_volume(volume, &format!("shared/{disk}"));
        let call = self.ask(Method::DELETE, path, Some(stamp), None);
        self.http.call(call).await
    }

    /// With persistent reservations.
    pub(crate) async fn give_shared(
        &self,
        stamp: Stamp<'_>,
        machine: &Uuid,
        volume: &str,
        disk: &Uuid,
        slot: Slot,
    ) -> Result<Changed, Fault> {
        let body = json!({"volume": volume, "controller": slot.controller, "unit": slot.unit});
        self.put(format!("/v1/machines/{machine}/shared/{disk}"), stamp, body)
            .await
    }

    pub(crate) async fn take_shared(
        &self,
        stamp: Stamp<'_>,
        machine: &Uuid,
        disk: &Uuid,
    ) -> Result<Changed, Fault> {
        let path = format!("/v1/machines/{machine}/shared/{disk}");
        let call = self.ask(Method::DELETE, path, Some(stamp), None);
        self.http.call(call).await
    }
}
