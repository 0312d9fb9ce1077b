//! What a machine's guest reads at its first boot: its cards, and what the machine's document says.

use crate::{Drivers, agent::Cards, perform::premise};
use base64::{Engine, prelude::BASE64_STANDARD};
use serde_json::json;
use zastrugi_core::{
    estate::{Estate, Machine},
    first_boot::{Told, told},
    runs::{Fault, FaultKind},
};
use zastrugi_formats::seed::{cards, files, image};

impl Drivers {
    /// A machine's cards, and the seed from which its guest learns them.
    pub(crate) async fn cards(&self, estate: &Estate, machine: &Machine) -> Result<Cards, Fault> {
        let told = what(estate, machine)?;
        let hash = match told.user.as_ref().and_then(|u| u.password) {
            Some(secret) => Some(self.secrets.open(secret).await?),
            None => None,
        };
        let cards = cards(estate, machine);
        let files = files(&machine.uuid.to_string(), &cards, &told, hash.as_deref());
        let files = files.with(&machine.name, &machine.properties);
        let image = image(&files).map_err(|e| {
            let said = format!("The seed of {} can't be made: {e}.", machine.name);
            Fault::new(FaultKind::Refused, said, "Give it fewer cards.")
        })?;
        let nics = machine.nics.iter().map(|nic| {
            let network = nic.network.and_then(|id| estate.networks.get(&id));
            json!({"mac": nic.mac, "network": network.map(|n| &n.name), "addresses": nic.addresses})
        });
        Ok(Cards {
            nics: nics.collect(),
            seed: BASE64_STANDARD.encode(image),
        })
    }
}

fn what(estate: &Estate, machine: &Machine) -> Result<Told, Fault> {
    let Some(booted) = &machine.first_boot else {
        return Ok(Told::plain(machine));
    };
    let document = estate.first_boots.get(&booted.document);
    let edition = document.and_then(|d| d.version(booted.version));
    let edition = edition.ok_or_else(|| premise("Its first-boot document is gone."))?;
    told(edition, machine, estate).map_err(|words| premise(&words))
}
