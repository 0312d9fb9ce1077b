//! What a controller knows of a host beneath whatever is installed on it, and mounts for it over the network: the schemas
//! VirtualMedia, ComputerSystem (Boot, BootProgress), Volume, Drive and EthernetInterface of the standard.

use super::{
    Controller,
    sign::{ROOT, local, path},
    wire::{
        Collection, Interface, Link, LocalDrive, LocalStorage, LocalVolume, Machine, Manager,
        Medium, Progress, Root,
    },
};
use crate::fault::words;
use serde_json::json;
use zastrugi_core::{
    estate::{DiskState, LocalDisk},
    evidence::{Beneath, Port},
    runs::{Fault, FaultKind},
    units::{Bytes, round},
};

/// Parts of one kind that are looked at.
const PARTS: usize = 64;

/// How far a system is with what it was told to start from.
#[derive(Debug)]
pub(crate) struct Standing {
    pub(crate) on: bool,
    /// It has still to start from the medium.
    pub(crate) awaits: bool,
    pub(crate) progress: String,
    /// Why it goes no further, in its own words.
    pub(crate) trouble: Option<String>,
}

impl Controller<'_> {
    fn no(&self, said: impl Into<String>) -> Fault {
        Fault::new(FaultKind::Refused, said, "Look at the controller.")
    }

    /// Where its system stands: the one with the serial that is meant, or the only one where none is known yet.
    async fn at(&self) -> Result<String, Fault> {
        if !self.serial.is_empty() {
            let found = self.found().await?;
            return Ok(found.path);
        }
        let root: Root = self.get(ROOT).await?;
        let none = || self.no(format!("{} knows no systems.", self.who()));
        let at = local(&self.who(), &root.systems.ok_or_else(none)?)?;
        let all: Collection = self.get(&at).await?;
        match all.members.as_slice() {
            [one] => local(&self.who(), one),
            [] => Err(none()),
            many => Err(self.no(format!(
                "{} has {} systems behind it; which is meant nobody can tell.",
                self.who(),
                many.len()
            ))),
        }
    }

    /// The members of a collection, as far as they can be read.
    async fn members<T: serde::de::DeserializeOwned>(
        &self,
        link: Option<&Link>,
    ) -> Result<Vec<T>, Fault> {
        let Some(link) = link else { return Ok(vec![]) };
        let all: Collection = self.get(&local(&self.who(), link)?).await?;
        self.each(&all.members).await
    }

    /// What links lead to, as far as it can be read.
    async fn each<T: serde::de::DeserializeOwned>(&self, links: &[Link]) -> Result<Vec<T>, Fault> {
        let mut found = Vec::new();
        for member in links.iter().take(PARTS) {
            let at = local(&self.who(), member)?;
            match self.get::<T>(&at).await {
                Ok(read) => found.push(read),
                // A link may lead nowhere: the others are still there.
                Err(fault) if fault.kind == FaultKind::Refused => {}
                Err(fault) => return Err(fault),
            }
        }
        Ok(found)
    }

    /// # Errors
    /// [`Fault`] when it gives no answer, or does not take who asks.
    pub(crate) async fn beneath(&self) -> Result<Beneath, Fault> {
        let at = self.at().await?;
        let system: Machine = self.get(&at).await?;
        let (mut disks, mut drives) = (Vec::new(), Vec::new());
        for storage in self
            .members::<LocalStorage>(system.storage.as_ref())
            .await?
        {
            let all = self
                .members::<LocalVolume>(storage.volumes.as_ref())
                .await?;
            disks.extend(all.into_iter().map(|v| words(&v.name)));
            let all = self.each::<LocalDrive>(&storage.drives).await?;
            drives.extend(all.into_iter().filter_map(drive));
        }
        let ports = self
            .members::<Interface>(system.ethernet_interfaces.as_ref())
            .await?;
        let slots = self.slots_of(&system).await?.len();
        let cpu = system.processor_summary;
        Ok(Beneath {
            maker: words(&system.manufacturer),
            model: words(&system.model),
            serial: words(&system.serial_number),
            on: system.power_state == "On",
            cpu: words(&cpu.model),
            sockets: cpu.count,
            cores: cpu.core_count,
            threads: cpu.logical_processor_count,
            memory: Bytes(round(
                system.memory_summary.total_system_memory_gib * Bytes::gib(1).as_f64(),
            )),
            ports: ports.into_iter().map(port).collect(),
            disks,
            drives,
            slots,
        })
    }

    /// Mounts these, each in a slot of its own, in place of whatever is in there.
    pub(crate) async fn mount(&self, images: &[String]) -> Result<(), Fault> {
        let slots = self.slots().await?;
        if slots.len() < images.len() {
            return Err(self.no(format!(
                "{} mounts {} media over the network; {} are needed.",
                self.who(),
                slots.len(),
                images.len()
            )));
        }
        for (medium, image) in slots.iter().zip(images) {
            if medium.inserted {
                self.eject(medium).await?;
            }
            let insert = medium.actions.insert.as_ref().map(|a| a.target.as_str());
            let to = path(&self.who(), insert.unwrap_or_default())?;
            let body = json!({"Image": image, "Inserted": true, "WriteProtected": true});
            self.post(&to, body).await?;
        }
        Ok(())
    }
    /// Takes out what is mounted.
    pub(crate) async fn unmount(&self) -> Result<(), Fault> {
        for medium in self.slots().await?.iter().filter(|m| m.inserted) {
            self.eject(medium).await?;
        }
        Ok(())
    }
    async fn eject(&self, medium: &Medium) -> Result<(), Fault> {
        let eject = medium.actions.eject.as_ref().map(|a| a.target.as_str());
        let to = path(&self.who(), eject.unwrap_or_default())?;
        self.post(&to, json!({})).await
    }
    async fn slots(&self) -> Result<Vec<Medium>, Fault> {
        let system: Machine = self.get(&self.at().await?).await?;
        self.slots_of(&system).await
    }
    /// At the system, or at its manager, where earlier versions of the standard have them.
    async fn slots_of(&self, system: &Machine) -> Result<Vec<Medium>, Fault> {
        let mut all = self
            .members::<Medium>(system.virtual_media.as_ref())
            .await?;
        if system.virtual_media.is_none()
            && let [manager, ..] = system.links.managed_by.as_slice()
        {
            let manager: Manager = self.get(&local(&self.who(), manager)?).await?;
            all = self.members(manager.virtual_media.as_ref()).await?;
        }
        all.retain(Medium::takes);
        Ok(all)
    }

    /// Its next start is from the medium, and only that one.
    pub(crate) async fn start_once(&self) -> Result<(), Fault> {
        let at = self.at().await?;
        let body = json!({"Boot": {
            "BootSourceOverrideEnabled": "Once", "BootSourceOverrideTarget": "Cd", "BootSourceOverrideMode": "UEFI"}});
        self.patch(&at, body).await
    }

    /// From its own disks, as before.
    pub(crate) async fn start_as_ever(&self) -> Result<(), Fault> {
        let at = self.at().await?;
        let body = json!({"Boot": {"BootSourceOverrideEnabled": "Disabled"}});
        self.patch(&at, body).await
    }

    pub(crate) async fn standing(&self) -> Result<Standing, Fault> {
        let system: Machine = self.get(&self.at().await?).await?;
        let Progress {
            last_state,
            oem_last_state,
        } = system.boot_progress;
        let progress = if oem_last_state.is_empty() {
            last_state
        } else {
            oem_last_state
        };
        let critical = system.status.health == "Critical";
        let conditions = system.status.conditions.into_iter();
        let trouble = conditions
            .map(|c| words(&c.message))
            .find(|m| !m.is_empty());
        Ok(Standing {
            on: system.power_state == "On",
            awaits: system.boot.enabled == "Once",
            progress: words(&progress),
            trouble: critical
                .then(|| trouble.unwrap_or_else(|| "it reports a critical state".into())),
        })
    }
}

/// None: an empty bay, or one whose size is not said.
fn drive(said: LocalDrive) -> Option<LocalDisk> {
    let size = Bytes(said.capacity_bytes);
    if size == Bytes::ZERO {
        return None;
    }
    let name = if said.name.is_empty() {
        said.id
    } else {
        said.name
    };
    let state = match said.status.health.as_str() {
        "Critical" => DiskState::Dead,
        _ => DiskState::Free,
    };
    Some(LocalDisk {
        name: words(&name),
        size,
        state,
    })
}

fn port(read: Interface) -> Port {
    Port {
        name: words(if read.name.is_empty() {
            &read.id
        } else {
            &read.name
        }),
        mac: words(&read.mac_address.to_lowercase()),
        mbit: read.speed_mbps,
        up: read.link_status == "LinkUp",
    }
}
