//! A deleted machine comes back on real sockets: on at the host that was chosen, and on another network.

use crate::lab::{Lab, eventually};
use sqlx::PgPool;
use zastrugi_core::rooms::{
    Proposal,
    machines::{self, Back},
};
use zastrugi_store::testkit::url;

/// If this fails, a machine that was deleted by mistake is not up again where its people need it.
#[sqlx::test(migrations = false)]
async fn a_deleted_machine_comes_back_on_and_on_another_network(pool: PgPool) {
    let lab = Lab::at_speed(&url(&pool), 2, 40.0).await;
    lab.ready().await;
    lab.done(lab.network()).await;
    let network = *lab.estate().networks.keys().next().unwrap();
    lab.done(lab.create("m", 1, false)).await;
    let machines = vec![lab.machine("m")];
    lab.done(Proposal::Machines(machines::Ask::Delete {
        machines: machines.clone(),
    }))
    .await;
    let host = lab
        .estate()
        .hosts
        .values()
        .find(|h| h.name == "h2")
        .unwrap()
        .id;
    lab.done(Proposal::Machines(machines::Ask::Recover {
        machines,
        how: Back {
            start: true,
            host: Some(host),
            networks: vec![Some(network)],
        },
    }))
    .await;
    assert_eq!(lab.standins.world.running("m")[0].0, "h2");
    let m = lab.estate().machine_named("m").unwrap().clone();
    assert_eq!(m.nics[0].network, Some(network));
    assert!(!m.nics[0].addresses.is_empty(), "it has an address there");
    // What its host tells of it is the same.
    eventually("its host agrees", || {
        let m = lab.estate().machine_named("m").unwrap().clone();
        m.nics[0].network == Some(network) && m.host == Some(host)
    })
    .await;
    lab.assert_once();
}
