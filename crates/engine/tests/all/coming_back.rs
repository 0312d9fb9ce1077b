//! A deleted machine comes back on real sockets: on at the host that was chosen, and on another network.

use crate::{lab::eventually, network};
use sqlx::PgPool;
use zastrugi_core::rooms::{
    Proposal,
    machines::{self, Back},
    networks,
};

/// If this fails, a machine that was deleted by mistake is not up again where its people need it.
#[sqlx::test(migrations = false)]
async fn a_deleted_machine_comes_back_on_and_on_another_network(pool: PgPool) {
    let lab = network::lab(&pool, 2).await;
    let crew = network::ask(&lab, "crew", 20, 1500);
    lab.done(Proposal::Networks(networks::Ask::Create(crew)))
        .await;
    let network = network::network(&lab, "crew");
    // Hosts tell of it before anything rests on it.
    eventually("both hosts tell of it", || {
        let estate = lab.estate();
        let has =
            |h: &&std::sync::Arc<zastrugi_core::estate::Host>| h.networks.contains_key("crew");
        estate.hosts.values().filter(has).count() == 2
    })
    .await;
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
    // What its host tells of it is the same.
    eventually("its host agrees", || {
        let m = lab.estate().machine_named("m").unwrap().clone();
        m.nics[0].network == Some(network) && m.host == Some(host)
    })
    .await;
    lab.assert_once();
}
