//! What the first journey does by hand, done by the desk: hosts claimed, and in a cluster.

use std::time::{Duration, Instant};
use uuid::Uuid;
use zastrugi_core::rooms::{clusters, hosts, networks};
use zastrugi_core::{
    endpoint::{Endpoint, Password},
    estate::{Demand, NetRole},
    ids::HostId,
    permits::Role,
    rooms::Proposal,
    rooms::clusters::CreateCluster,
    rooms::hosts::ClaimHosts,
    rooms::networks::CreateNetwork,
    runs::RunState,
};
use zastrugi_engine::{Desk, Viewer};

/// Carries a proposal out, to its end.
pub(crate) async fn done(desk: &Desk, admin: &Viewer, ask: Proposal) {
    let run = desk.start(admin, ask, None, Uuid::new_v4()).await.unwrap();
    let began = Instant::now();
    while desk.run(run).await.unwrap().unwrap().0.state != RunState::Done {
        assert!(began.elapsed() < Duration::from_secs(40), "{run}");
        tokio::time::sleep(Duration::from_millis(30)).await;
    }
}

/// So many hosts of Quayside in the cluster Eider; answers who did it.
pub(crate) async fn first_day(desk: &Desk, net: &str, hosts: u8) -> Viewer {
    let people = desk.people().await.unwrap();
    let admin = people.into_iter().find(|p| p.role == Role::Admin).unwrap();
    let admin = Viewer {
        id: admin.id,
        name: admin.name,
        role: Role::Admin,
    };
    let addresses = (11..11 + hosts).map(|n| format!("{net}.1.{n}:7443"));
    a_cluster(desk, &admin, addresses.collect(), "Quayside", "Eider").await;
    admin
}

/// The hosts at these addresses, claimed for a site and made a cluster of.
pub(crate) async fn a_cluster(
    desk: &Desk,
    admin: &Viewer,
    addresses: Vec<String>,
    site: &str,
    name: &str,
) {
    desk.greet(&addresses).await;
    let there = |address: &String| addresses.contains(address);
    let found = desk.found().into_iter().filter(|f| there(&f.address));
    let targets = found.map(|f| Endpoint {
        address: f.address.into(),
        pin: f.greeting.pin.into(),
    });
    let claim = ClaimHosts {
        targets: targets.collect(),
        site: site.into(),
        password: Password::Kept(desk.keep_secret("first-light").await.unwrap()),
    };
    done(desk, admin, Proposal::Hosts(hosts::Ask::Claim(claim))).await;
    let estate = desk.look().estate;
    let loose = estate.hosts.values().filter(|h| h.cluster.is_none());
    let hosts: Vec<HostId> = loose.map(|h| h.id).collect();
    let cluster = CreateCluster {
        time: vec![],
        kind: Default::default(),
        name: name.into(),
        hosts,
        level: None,
        volume: None,
        demand: Demand {
            failures: 1,
            domains: [false; 3],
            enforced: false,
        },
    };
    desk.inspect(&cluster.hosts).await;
    done(
        desk,
        admin,
        Proposal::Clusters(clusters::Ask::Create(cluster)),
    )
    .await;
}

/// A network over which the cluster's machines can be moved.
pub(crate) async fn migration_network(desk: &Desk, admin: &Viewer) {
    let network = CreateNetwork {
        name: "migration".into(),
        cluster: desk.look().estate.clusters.keys().next().copied(),
        role: NetRole::Migration,
        vlan: Some(50),
        mtu: 1500,
        subnets: vec![],
        uplinks: ["uplink-1", "uplink-2"].map(str::to_owned).into(),
    };
    done(
        desk,
        admin,
        Proposal::Networks(networks::Ask::Create(network)),
    )
    .await;
}
