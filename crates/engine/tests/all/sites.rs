//! A cluster at two sites: how far they are apart is measured between its hosts.

use crate::lab::{Lab, scenario};
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
};
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
