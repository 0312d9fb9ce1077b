//! The store of the demo, in a bucket at the other site, and the first copies in it.

use super::{FIRST_PASSWORD, carry_out};
use crate::serve::Failed;
use uuid::Uuid;
use zastrugi_core::{
    endpoint::{Endpoint, Password},
    evidence::Probe,
    rooms::{
        Proposal,
        backups::{self, BackUp},
        snapshots::Quiet,
        stores::{Ask, MakeStore},
    },
    units::Bytes,
};
use zastrugi_engine::{Desk, Viewer};

/// Those with the smallest disks: their first copies are there soon.
const FIRST: usize = 3;

/// Made, and a few machines on their way into it: nobody waits for that.
pub(super) async fn store(desk: &Desk, admin: &Viewer, net: &str) -> Result<(), Failed> {
    let address = format!("{net}.2.90:9443");
    desk.greet_store(&address).await;
    let book = desk.look().evidence;
    let pin = book
        .manager_pin(&Probe::StoreGreeting(address.clone()))
        .to_owned();
    let secret = desk
        .keep_secret(FIRST_PASSWORD)
        .await
        .map_err(Failed::Other)?;
    let make = MakeStore {
        name: "breakwater".into(),
        site: "Hilltop".into(),
        target: Endpoint {
            address: address.into(),
            pin: pin.into(),
        },
        region: "us-east-1".into(),
        bucket: "skarholm".into(),
        folder: "".into(),
        access: "zastrugi".into(),
        secret: Password::Kept(secret),
    };
    carry_out(desk, admin, Proposal::Stores(Ask::Make(make))).await?;
    let estate = desk.look().estate;
    let on = estate
        .machines
        .values()
        .filter(|m| !m.is_off() && !m.is_node());
    let mut small: Vec<_> = on.collect();
    small.sort_by_key(|m| m.disks.iter().map(|d| d.size).sum::<Bytes>());
    small.truncate(FIRST);
    let ask = BackUp {
        machines: small.iter().map(|m| m.id).collect(),
        store: estate.stores.keys().next().copied(),
        quiet: Quiet::IfPossible,
    };
    let begun = desk
        .start(
            admin,
            Proposal::Backups(backups::Ask::Now(ask)),
            None,
            Uuid::new_v4(),
        )
        .await;
    begun.map(drop).map_err(|e| Failed::Other(e.to_string()))
}
