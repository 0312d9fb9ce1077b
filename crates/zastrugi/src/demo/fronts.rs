//! The load balancer of the demo, and a front on it.

use super::{FIRST_PASSWORD, carry_out};
use crate::serve::Failed;
use zastrugi_core::{
    endpoint::{Endpoint, Password},
    estate::{Manner, Protocol},
    evidence::Probe,
    rooms::{
        Proposal,
        fronts::{Ask, ConnectBalancer, PutFront},
    },
};
use zastrugi_engine::{Desk, Viewer};

/// Web servers of the ticket office, behind one address.
pub(super) async fn front(desk: &Desk, admin: &Viewer, net: &str) -> Result<(), Failed> {
    let address = format!("{net}.1.60:8443");
    desk.greet_balancer(&address).await;
    let book = desk.look().evidence;
    let pin = book
        .manager_pin(&Probe::BalancerGreeting(address.clone()))
        .to_owned();
    let secret = desk
        .keep_secret(FIRST_PASSWORD)
        .await
        .map_err(Failed::Other)?;
    let connect = ConnectBalancer {
        target: Endpoint {
            address: address.into(),
            pin: pin.into(),
        },
        site: "Quayside".into(),
        token: Password::Kept(secret),
    };
    carry_out(desk, admin, Proposal::Fronts(Ask::Connect(connect))).await?;
    let estate = desk.look().estate;
    let web = estate.machines_labelled("role=web").next();
    let network = web.and_then(|m| m.nics.iter().find_map(|n| n.network));
    let put = PutFront {
        front: None,
        name: "tickets".into(),
        balancer: estate.balancers.keys().next().copied(),
        network,
        address: None,
        port: 8080,
        label: "role=web".into(),
        serves: 8080,
        manner: Manner::usual(Protocol::Http),
        shown: None,
        key: Password::Missing,
    };
    carry_out(desk, admin, Proposal::Fronts(Ask::Put(put))).await
}
