//! What is made at an array, with how it is found again where the answer was lost.

use super::{
    Keeper,
    client::{ROOT, WireEndpoint, WireVolume},
};
use crate::agent::limited;
use serde::de::DeserializeOwned;
use serde_json::{Value, json};
use zastrugi_core::{
    estate::{ArrayKind, Provisioning},
    evidence::SeenLun,
    runs::Fault,
    units::Bytes,
};

/// Something that must be made once.
pub(super) trait Wanted: Sync {
    type Said: DeserializeOwned;
    type Made: Send;
    /// Where it is ordered, and how.
    fn order(&self, keeper: &Keeper<'_>) -> (&'static str, Value);
    fn read(said: Self::Said) -> Self::Made;
    /// Whether it is there already.
    fn look(
        &self,
        keeper: &Keeper<'_>,
    ) -> impl Future<Output = Result<Option<Self::Made>, Fault>> + Send;
}

pub(super) struct Lun<'a> {
    pub(super) name: &'a str,
    pub(super) pool: &'a str,
    pub(super) size: Bytes,
    pub(super) provisioning: Provisioning,
}

impl Lun<'_> {
    /// As it is right after it was made: as large as asked, and nobody reaches it.
    pub(super) fn is(&self, lun: &SeenLun) -> bool {
        let fresh = lun.initiators.is_empty() && lun.used == Bytes::ZERO;
        lun.name == self.name && lun.capacity == self.size && fresh
    }
}

impl Wanted for Lun<'_> {
    type Said = WireVolume;
    type Made = SeenLun;

    fn order(&self, keeper: &Keeper<'_>) -> (&'static str, Value) {
        let pool = format!("{ROOT}/Storage/1/StoragePools/{}", self.pool);
        let policy = match self.provisioning {
            Provisioning::Thick => "Fixed",
            Provisioning::Thin => "Thin",
        };
        let body = json!({
            "Name": self.name,
            "CapacityBytes": self.size.0,
            "Description": keeper.key,
            "ProvisioningPolicy": policy,
            "CapacitySources": [{"ProvidingPools": {"Members": [{"@odata.id": pool}]}}]
        });
        (keeper.volumes_path(), body)
    }

    fn read(said: WireVolume) -> SeenLun {
        Keeper::read(said)
    }

    async fn look(&self, keeper: &Keeper<'_>) -> Result<Option<SeenLun>, Fault> {
        let mut there = keeper.luns().await?.into_iter();
        Ok(there.find(|l| self.is(l)))
    }
}

/// The number of an initiator that the array shall know.
pub(super) struct Initiator<'a>(pub(super) &'a str);

impl Wanted for Initiator<'_> {
    type Said = WireEndpoint;
    type Made = String;

    fn order(&self, keeper: &Keeper<'_>) -> (&'static str, Value) {
        let format = match keeper.array.kind {
            ArrayKind::Block => "iQN",
            ArrayKind::File => "FQDN",
        };
        let body = json!({
            "ConnectedEntities": [{"EntityRole": "Initiator"}],
            "Identifiers": [{"DurableName": self.0, "DurableNameFormat": format}]
        });
        ("/Fabrics/1/Endpoints", body)
    }

    fn read(said: WireEndpoint) -> String {
        limited(said.id)
    }

    async fn look(&self, keeper: &Keeper<'_>) -> Result<Option<String>, Fault> {
        let known = keeper.fabric().await?.initiators.into_iter();
        let mut ours = known.filter(|(_, name)| name == self.0);
        Ok(ours.next().map(|(id, _)| id))
    }
}

/// That an initiator reaches a volume, both by their numbers.
pub(super) struct Joined<'a> {
    pub(super) lun: &'a str,
    pub(super) initiator: &'a str,
}

impl Wanted for Joined<'_> {
    type Said = Value;
    type Made = ();

    fn order(&self, keeper: &Keeper<'_>) -> (&'static str, Value) {
        let volume = format!("{ROOT}{}/{}", keeper.volumes_path(), self.lun);
        let initiator = format!("{ROOT}/Fabrics/1/Endpoints/{}", self.initiator);
        let body = json!({
            "VolumeInfo": [{"AccessCapabilities": ["Read", "Write"], "Volume": {"@odata.id": volume}}],
            "Links": {"InitiatorEndpoints": [{"@odata.id": initiator}]}
        });
        ("/Fabrics/1/Connections", body)
    }

    fn read(_: Value) {}

    async fn look(&self, keeper: &Keeper<'_>) -> Result<Option<()>, Fault> {
        let there = keeper.mappings().await?;
        let joined =
            |m: &super::client::Mapping| m.lun == self.lun && m.initiator == self.initiator;
        Ok(there.iter().any(joined).then_some(()))
    }
}
