//! The store of the demo, in a bucket at the other site. Nothing is in it: its machines hold too much to be copied while somebody
//! looks around for the first time.

use super::{FIRST_PASSWORD, carry_out};
use crate::serve::Failed;
use zastrugi_core::{
    endpoint::{Endpoint, Password},
    evidence::Probe,
    rooms::{
        Proposal,
        stores::{Ask, MakeStore},
    },
};
use zastrugi_engine::{Desk, Viewer};

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
    carry_out(desk, admin, Proposal::Stores(Ask::Make(make))).await
}
