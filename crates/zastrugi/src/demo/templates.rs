//! A template of the demo, what the kiosks at the quays boot from, and what their guests are told.

use crate::serve::Failed;
use uuid::Uuid;
use zastrugi_core::endpoint::Password;
use zastrugi_core::rooms::{
    Proposal, first_boot,
    spares::{self, Keep},
    templates::{Ask, Make},
};
use zastrugi_engine::{Desk, Viewer};

/// The machine that it is made from.
const FROM: &str = "kiosk-template";

const KEY: &str = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAICqXUWw1S2iEjNvY9UoiagpVsh7ROOIHrWxcu5wAqlrq deck@skarholm.example";

pub(super) async fn first_boot(desk: &Desk, admin: &Viewer) -> Result<(), Failed> {
    let keep = first_boot::Keep {
        of: None,
        name: "quay kiosks".into(),
        host_name: "{name}.skarholm.example".into(),
        user: "deck".into(),
        keys: vec![KEY.into()],
        password: Password::Missing,
        no_password: false,
        dns: vec!["10.1.2.53".into()],
        search: vec!["skarholm.example".into()],
        zone: "Europe/Oslo".into(),
        commands: vec![
            "systemctl enable kiosk".into(),
            "touch /etc/kiosk.ready".into(),
        ],
    };
    let ask = Proposal::FirstBoot(first_boot::Ask::Keep(Box::new(keep)));
    let begun = desk.start(admin, ask, None, Uuid::new_v4()).await;
    begun.map(drop).map_err(|e| Failed::Other(e.to_string()))
}

pub(super) async fn kiosk(desk: &Desk, admin: &Viewer) -> Result<(), Failed> {
    let estate = desk.look().estate;
    let Some(machine) = estate.machine_named(FROM) else {
        return Ok(());
    };
    let make = Make {
        machine: machine.id,
        snapshot: None,
        of: None,
        name: "kiosk".into(),
        volume: None,
        seal: true,
        first_boot: desk.look().estate.first_boots.keys().next().copied(),
        note: "Sealed; the kiosks at the quays begin with it.".into(),
    };
    // It is copied while people look around already.
    let ask = Proposal::Templates(Ask::Make(make));
    let begun = desk.start(admin, ask, None, Uuid::new_v4()).await;
    begun.map(drop).map_err(|e| Failed::Other(e.to_string()))
}

/// Made as soon as the template is whole.
pub(super) async fn trainers(desk: &Desk, admin: &Viewer) -> Result<(), Failed> {
    let estate = desk.look().estate;
    let Some(template) = estate.template_named("kiosk") else {
        return Ok(());
    };
    let Some(from) = estate.machine_named(FROM) else {
        return Ok(());
    };
    let here = from
        .cluster
        .map(|c| estate.networks_of(c))
        .unwrap_or_default();
    let network = here.iter().find(|n| n.name == "tickets").map(|n| n.id);
    let keep = Keep {
        pool: None,
        name: "kiosk trainers".into(),
        template: Some(template.id),
        cluster: from.cluster,
        pattern: "trainer-{01}".into(),
        spare: 2,
        most: 8,
        vcpus: from.vcpus,
        memory: from.memory.size,
        dependent: true,
        networks: vec![network],
        document: None,
        ends_off: true,
    };
    let ask = Proposal::Spares(spares::Ask::Keep(Box::new(keep)));
    let begun = desk.start(admin, ask, None, Uuid::new_v4()).await;
    begun.map(drop).map_err(|e| Failed::Other(e.to_string()))
}
