//! In the browser: many machines for a cluster that is not the first one, their run in groups, and back from what it touched.

use crate::{
    browser::Browser,
    first_day::{a_cluster, done, first_day},
    road::{serve, sign_in},
    world::World,
};
use sqlx::PgPool;
use zastrugi_core::{
    addressing::range,
    estate::{NetRole, Part, Subnet},
    rooms::{
        Proposal,
        networks::{Ask, CreateNetwork},
    },
};

#[sqlx::test(migrations = false)]
async fn many_machines_for_any_cluster_and_a_run_that_can_be_read(pool: PgPool) {
    let world = World::new(false).await;
    let served = serve(&pool, &world).await;
    let (desk, base) = (&served.desk, &served.base);
    let admin = first_day(desk, &world.net, 3).await;
    let second = (11..14)
        .map(|n| format!("{}.2.{n}:7443", world.net))
        .collect();
    a_cluster(desk, &admin, second, "Hilltop", "Fulmar").await;
    let estate = desk.look().estate;
    let fulmar = estate
        .clusters
        .values()
        .find(|c| c.name == "Fulmar")
        .unwrap()
        .id;
    let crew = CreateNetwork {
        name: "crew".into(),
        cluster: Some(fulmar),
        role: NetRole::Guest,
        vlan: Some(20),
        mtu: 1500,
        subnets: vec![Subnet {
            net: "10.78.20.0/24".parse().unwrap(),
            gateway: "10.78.20.1".parse().ok(),
            ranges: vec![range("10.78.20.40-10.78.20.99", Part::Guests).unwrap()],
        }],
        uplinks: ["uplink-1", "uplink-2"].map(str::to_owned).into(),
    };
    done(desk, &admin, Proposal::Networks(Ask::Create(crew))).await;
    let b = Browser::start().await;
    sign_in(&b, base, "duty.admin", "harbour-lights").await;
    b.go(&format!("{base}/sheet/new-machines")).await;
    // What can be chosen follows the cluster.
    b.pick("#cluster", &format!("option[value=\"{}\"]", fulmar.0))
        .await;
    b.says("fulmar-02").await;
    b.fill("#name", "hand-{01}").await;
    b.fill("#count", "45").await;
    b.fill("#memory", "256 MiB").await;
    b.says("Each of the 45").await;
    b.says("hand-45").await;
    let text = b.text().await;
    assert!(
        text.contains("10.78.20.40") && text.contains("fulmar-0"),
        "{text}"
    );
    assert!(
        !text.contains("eider-0"),
        "no host of the other cluster is offered"
    );
    b.press("form#sheet button[type=submit]").await;
    b.says("Create 45 machines on Fulmar").await;
    b.says("135 of 135 steps are done").await;
    b.says("45 of 45 done").await;
    b.says("Foretold: about").await;
    // To what it touched, and back by the event there.
    b.press("main a[href*='/machines/']").await;
    b.says("its run").await;
    b.press("main a[href*='/logbook/runs/']").await;
    b.says("135 of 135 steps are done").await;
    // Runs and events are found again.
    b.go(&format!("{base}/logbook?q=Fulmar&state=done")).await;
    b.says("Create 45 machines on Fulmar").await;
    let text = b.text().await;
    assert!(!text.contains("Create cluster Eider"), "{text}");
    b.go(&format!(
        "{base}/logbook/events?kind=machine&from=2001-01-01&until=2001-01-02"
    ))
    .await;
    let text = b.text().await;
    assert!(
        !text.contains("hand-45"),
        "nothing happened on that day: {text}"
    );
    world.assert_once();
    b.assert_quiet(&[]).await;
}
