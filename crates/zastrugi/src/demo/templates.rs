//! A template of the demo: what the kiosks at the quays boot from.

use crate::serve::Failed;
use uuid::Uuid;
use zastrugi_core::rooms::{
    Proposal,
    templates::{Ask, Make},
};
use zastrugi_engine::{Desk, Viewer};

/// The machine that it is made from.
const FROM: &str = "kiosk-template";

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
        note: "Sealed; the kiosks at the quays begin with it.".into(),
    };
    // It is copied while people look around already.
    let ask = Proposal::Templates(Ask::Make(make));
    let begun = desk.start(admin, ask, None, Uuid::new_v4()).await;
    begun.map(drop).map_err(|e| Failed::Other(e.to_string()))
}
