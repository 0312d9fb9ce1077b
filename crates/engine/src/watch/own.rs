//! Which machine this manager itself runs in, if it is one of those that it watches: it is brought back before all others.

use super::office::Office;
use std::time::Duration;
use tokio::time::sleep;
use uuid::Uuid;
use zastrugi_core::{
    estate::Estate,
    rooms::{Event, machines},
};

const LOOK: Duration = Duration::from_secs(5);

/// What the firmware says of the machine beneath, where it can be read.
pub(crate) fn by_firmware() -> Option<Uuid> {
    let said = std::fs::read_to_string("/sys/class/dmi/id/product_uuid").ok()?;
    said.trim().parse().ok()
}

pub(super) async fn know(office: Office, own: Option<Uuid>) {
    loop {
        if !changed(&office.shared.estate(), own).is_empty() {
            office
                .append(move |sight| changed(&sight.view.estate, own))
                .await;
        }
        sleep(LOOK).await;
    }
}

fn changed(estate: &Estate, own: Option<Uuid>) -> Vec<Event> {
    let differs = estate.machines.values().filter(|m| {
        let here = m.deleted.is_none() && own == Some(m.uuid);
        here != m.carries
    });
    let event = |m: &std::sync::Arc<zastrugi_core::estate::Machine>| machines::Event::Carries {
        machine: m.id,
        carries: !m.carries,
    };
    differs.map(event).map(Event::Machines).collect()
}
