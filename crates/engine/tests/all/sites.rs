//! A cluster at two sites: how far they are apart is measured between its hosts.

use crate::{
    building,
    lab::{Lab, scenario},
};
use sqlx::PgPool;
use zastrugi_core::{
    endpoint::Password,
    estate::{ClusterKind, Demand},
    finding::Severity,
    ids::HostId,
    rooms::{
        Proposal,
        clusters::{self, CreateCluster},
        hosts,
    },
    runs::RunState,
};
use zastrugi_engine::Resolve;
use zastrugi_store::testkit::url;

/// If this fails, disks of a cluster wait for a site that is too far away, and nobody was told before.
#[sqlx::test(migrations = false)]
async fn a_round_trip_between_two_sites_is_measured_before_they_are_one_cluster(pool: PgPool) {
    let mut all = scenario(2);
    all.hosts[1].address = "2.12".into();
    let lab = Lab::with(&url(&pool), all, 40.0, |_| {}).await;
    for (name, site) in [("h1", "Quayside"), ("h2", "Hilltop")] {
        let mut claim = lab.claim().await;
        if let Proposal::Hosts(hosts::Ask::Claim(claim)) = &mut claim {
            let at = &lab.standins.world.agents()[name];
            claim.targets.retain(|t| t.address.as_str() == at);
            claim.site = site.into();
            claim.password = Password::Kept(lab.desk.keep_secret("first-light").await.unwrap());
        }
        lab.done(claim).await;
    }
    let ids: Vec<HostId> = lab.estate().hosts.keys().copied().collect();
    lab.desk.inspect(&ids).await;
    let ask = Proposal::Clusters(clusters::Ask::Create(CreateCluster {
        name: "Both".into(),
        hosts: ids,
        level: None,
        volume: None,
        demand: Demand {
            failures: 0,
            domains: [false; 3],
            enforced: false,
        },
        kind: ClusterKind::TwoSites,
        time: vec![],
    }));
    let says = || {
        let said = lab.desk.assess(&lab.admin, &ask);
        let found = said
            .findings()
            .iter()
            .find(|f| f.text.contains("round trip"));
        found.map(|f| (f.severity, f.text.clone())).unwrap()
    };
    assert_eq!(says().0, Severity::Unchecked);
    let estate = lab.estate();
    let hosts: Vec<_> = estate.hosts.values().cloned().collect();
    let pair = clusters::between(&clusters::ends(&hosts).unwrap());
    lab.standins.world.long_lines(7_000);
    lab.desk.measure_between(&[pair]).await;
    let (severity, text) = says();
    assert!(
        severity == Severity::Stop && text.contains("takes 7"),
        "{text}"
    );
    // The same direction is not asked again while that is known; the other is, on a better line.
    lab.standins.world.long_lines(1_200);
    lab.desk.measure_between(&[pair]).await;
    assert_eq!(says().0, Severity::Stop);
    lab.desk.measure_between(&[(pair.1, pair.0)]).await;
    let back = zastrugi_core::evidence::Probe::RoundTrip {
        from: pair.1,
        to: pair.0,
    };
    let book = lab.desk.look().evidence;
    let answer = &book.answers[&back].answer;
    let near = matches!(answer, zastrugi_core::evidence::Answer::RoundTrip { micros } if (1_200..5_000).contains(micros));
    assert!(near, "{answer:?}");
}

/// If this fails, a cluster at two sites can't be built from bare hosts, or is built over a line that is too long.
#[sqlx::test(migrations = false)]
async fn bare_hosts_of_two_sites_become_one_cluster_once_they_are_known_to_be_near(pool: PgPool) {
    let lab = Lab::with(&url(&pool), building::with_bare(0, 2), 40.0, |_| {}).await;
    let mut build = building::look(&lab, 2).await;
    let net = lab.devices.net.clone();
    build.kind = ClusterKind::TwoSites;
    build.keepers = false;
    build.install.hosts[1].site = "Hilltop".into();
    build.install.hosts[1].address = format!("{net}.2.92").into();
    build.install.subnet = format!("{net}.0.0/16").into();
    build.networks[0].subnets[0].net = format!("{net}.0.0/16").parse().unwrap();
    lab.standins.world.long_lines(7_000);
    let run = lab.start(building::proposal(&build)).await;
    let stopped = lab.until(run, &[RunState::NeedsYou]).await;
    let said: Vec<String> = stopped
        .steps()
        .filter_map(|s| Some(s.fault.clone()?.said))
        .collect();
    assert!(
        said.iter()
            .any(|s| s.contains("round trip from tern-2 to tern-1 takes")
                && s.contains("bears 5.0 ms")),
        "{said:?}"
    );
    assert!(
        lab.estate().hosts.values().all(|h| h.cluster.is_none()),
        "nobody has joined"
    );
    lab.standins.world.long_lines(1_200);
    lab.desk
        .answer(&lab.admin, run, Resolve::Retry)
        .await
        .unwrap();
    lab.until(run, &[RunState::Done]).await;
    let estate = lab.estate();
    let cluster = estate.cluster_named("Tern").unwrap();
    assert_eq!(cluster.kind, ClusterKind::TwoSites);
    let sites: Vec<String> = estate
        .hosts_in(cluster.id)
        .map(|h| estate.sites[&h.site].name.clone())
        .collect();
    assert_eq!(sites, ["Lantern Point", "Hilltop"]);
}
