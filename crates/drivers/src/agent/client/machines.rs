//! Machines on a host: made, changed, started, stopped, deleted.

use super::{Agent, Stamp};
use crate::agent::wire::{Machine, WireAsOf, WireCopying, firmware};
use reqwest::Method;
use serde::Deserialize;
use serde_json::{Value, json};
use uuid::Uuid;
use zastrugi_core::{
    estate::{Boot, Machine as OurMachine, Memory},
    rooms::edits::Set,
    runs::Fault,
    units::Bytes,
};

/// What a machine is after a change of its power.
#[derive(Deserialize)]
pub(crate) struct Powered {
    #[serde(default)]
    pub(crate) generation: Option<u64>,
    #[serde(default)]
    pub(crate) as_of: Option<WireAsOf>,
}

#[derive(Deserialize)]
pub(crate) struct Made {
    pub(crate) guest_key: String,
}

/// A machine's network cards as an agent takes them, and the seed that its guest reads.
pub(crate) struct Cards {
    pub(crate) nics: Vec<Value>,
    /// An ISO 9660 image in base64.
    pub(crate) seed: String,
}

/// What a machine boots from, as an agent takes it.
pub(crate) fn boot(boot: &Boot, image: Option<(&str, &Uuid)>) -> Value {
    let image = image.map(|(volume, id)| json!({"volume": volume, "id": id}));
    json!({"image": image, "order": boot.order, "once": boot.once})
}

impl Agent<'_> {
    pub(crate) async fn machine(&self, uuid: &Uuid) -> Result<Machine, Fault> {
        self.get(format!("/v1/machines/{uuid}")).await
    }

    /// The machine, if there is one.
    pub(crate) async fn machine_if_any(&self, uuid: &Uuid) -> Result<Option<Machine>, Fault> {
        let call = self.ask(Method::GET, format!("/v1/machines/{uuid}"), None, None);
        self.http.call_if_found(call).await
    }

    pub(crate) async fn create(
        &self,
        stamp: Stamp<'_>,
        machine: &OurMachine,
        volume: &str,
        cards: &Cards,
        boot: Value,
    ) -> Result<Made, Fault> {
        let path = format!("/v1/machines/{}", machine.uuid);
        self.put(path, stamp, record(machine, volume, cards, &boot))
            .await
    }

    /// The same with disks that hold what others hold: begun, or how far it is.
    pub(crate) async fn copy(
        &self,
        stamp: Stamp<'_>,
        machine: &OurMachine,
        body: Value,
        from: Value,
    ) -> Result<WireCopying, Fault> {
        let mut body = body;
        body["copy"] = from;
        self.put(format!("/v1/machines/{}/copy", machine.uuid), stamp, body)
            .await
    }

    /// Nobody wants it any more.
    pub(crate) async fn end_copy(&self, stamp: Stamp<'_>, uuid: &Uuid) -> Result<(), Fault> {
        let path = format!("/v1/machines/{uuid}/copy");
        self.tell(Method::DELETE, path, Some(stamp), None).await
    }

    pub(crate) async fn rewrite(
        &self,
        stamp: Stamp<'_>,
        uuid: &Uuid,
        sets: &[Set],
        then: &OurMachine,
        boot: Option<Value>,
    ) -> Result<(), Fault> {
        let mut body = json!({});
        if let Some(boot) = boot {
            body["boot"] = boot;
        }
        for set in sets {
            match set {
                Set::Name(name) => body["name"] = json!(name),
                Set::VCpus(n) => body["vcpus"] = json!(n),
                Set::VCpusMax(n) => body["vcpus_max"] = json!(n),
                Set::Memory(m) => body["memory"] = memory(m),
                Set::DiskSize { .. } => {
                    let sizes: Vec<u64> = then.disks.iter().map(|d| d.size.0).collect();
                    body["disks"] = json!(sizes);
                }
                _ => {}
            }
        }
        self.patch(stamp, uuid, body).await
    }

    /// Gives more to a machine that runs.
    pub(crate) async fn grow(
        &self,
        stamp: Stamp<'_>,
        uuid: &Uuid,
        vcpus: Option<u32>,
        memory: Option<Bytes>,
    ) -> Result<(), Fault> {
        let path = format!("/v1/machines/{uuid}/grow");
        let body = json!({"vcpus": vcpus, "memory": memory.map(|m| m.0)});
        let ask = self.ask(Method::POST, path, Some(stamp), Some(body));
        self.http.call::<Value>(ask).await.map(drop)
    }

    pub(crate) async fn set_deleted(
        &self,
        stamp: Stamp<'_>,
        uuid: &Uuid,
        deleted: bool,
    ) -> Result<(), Fault> {
        self.patch(stamp, uuid, json!({"deleted": deleted})).await
    }

    pub(crate) async fn remove(&self, stamp: Stamp<'_>, uuid: &Uuid) -> Result<(), Fault> {
        let call = self.ask(
            Method::DELETE,
            format!("/v1/machines/{uuid}"),
            Some(stamp),
            None,
        );
        self.http.call::<Value>(call).await.map(drop)
    }

    /// Starts it under a higher generation. `proved_off`: serials of hosts that are proved off, each with the generation under
    /// which it may hold the run lease; it can't give it back. `boot`: the boot of the host that the order is meant for. `by`: the
    /// machine, and the volume of the record that it is started by.
    pub(crate) async fn power_on(
        &self,
        stamp: Stamp<'_>,
        by: (&Uuid, Option<&str>),
        generation: u64,
        proved_off: &[(&str, u64)],
        boot: Option<u64>,
    ) -> Result<Powered, Fault> {
        let (uuid, volume) = by;
        let mut body = json!({"act": "on", "generation": generation});
        if let Some(volume) = volume {
            body["volume"] = volume.into();
        }
        if !proved_off.is_empty() {
            let proofs = proved_off
                .iter()
                .map(|(serial, held)| json!({"serial": serial, "generation": held}));
            body["proved_off"] = proofs.collect();
        }
        if let Some(boot) = boot {
            body["boot"] = boot.into();
        }
        let path = format!("/v1/machines/{uuid}/power");
        self.http
            .call(self.ask(Method::POST, path, Some(stamp), Some(body)))
            .await
    }

    /// Ends it and starts it under a higher generation, as one; its host keeps its last picture.
    pub(crate) async fn power_again(
        &self,
        stamp: Stamp<'_>,
        uuid: &Uuid,
        generation: u64,
        boot: u64,
    ) -> Result<Powered, Fault> {
        let body = json!({"act": "again", "generation": generation, "boot": boot});
        let path = format!("/v1/machines/{uuid}/power");
        self.http
            .call(self.ask(Method::POST, path, Some(stamp), Some(body)))
            .await
    }

    /// Ends it where it stands still for want of its volume; one that can go on is left alone.
    pub(crate) async fn power_end(
        &self,
        stamp: Stamp<'_>,
        uuid: &Uuid,
        generation: u64,
        boot: u64,
    ) -> Result<(), Fault> {
        let body = json!({"act": "end", "generation": generation, "boot": boot});
        let path = format!("/v1/machines/{uuid}/power");
        let call = self.ask(Method::POST, path, Some(stamp), Some(body));
        self.http.call::<Value>(call).await.map(drop)
    }

    /// `act`: `stop` or `off`. Answers the machine as it is then.
    pub(crate) async fn power(
        &self,
        stamp: Stamp<'_>,
        uuid: &Uuid,
        act: &str,
    ) -> Result<Powered, Fault> {
        let body = json!({"act": act});
        let path = format!("/v1/machines/{uuid}/power");
        self.http
            .call(self.ask(Method::POST, path, Some(stamp), Some(body)))
            .await
    }

    async fn patch(&self, stamp: Stamp<'_>, uuid: &Uuid, body: Value) -> Result<(), Fault> {
        let call = self.ask(
            Method::PATCH,
            format!("/v1/machines/{uuid}"),
            Some(stamp),
            Some(body),
        );
        self.http.call::<Value>(call).await.map(drop)
    }
}

fn memory(memory: &Memory) -> Value {
    json!({"kept": memory.kept.0, "size": memory.size.0, "max": memory.max.0})
}

/// A new machine's record, as an agent takes it.
pub(crate) fn record(machine: &OurMachine, volume: &str, cards: &Cards, boot: &Value) -> Value {
    let disks: Vec<Value> = machine.disks.iter().map(super::hardware::disk).collect();
    json!({
        "volume": volume, "name": machine.name, "vcpus": machine.vcpus, "vcpus_max": machine.most_vcpus(), "memory": memory(&machine.memory),
        "video": machine.video.0, "disks": disks, "nics": cards.nics, "seed": cards.seed, "labels": machine.labels, "tier": machine.tier,
        "apart": machine.apart, "protected": machine.protected, "note": machine.note,
        "virtual_hardware": machine.virtual_hardware, "boot": boot, "firmware": machine.firmware.as_deref().map(firmware)
    })
}
