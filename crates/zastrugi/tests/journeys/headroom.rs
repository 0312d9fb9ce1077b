//! In the browser: could we lose a host? The tightest row, the change that is named, and the sentence afterwards.

use crate::{
    browser::Browser,
    first_day::{done, first_day, migration_network},
    road::{serve, sign_in},
    world::World,
};
use sqlx::PgPool;
use zastrugi_core::rooms::machines;
use zastrugi_core::{rooms::Proposal, rooms::machines::CreateMachines, testkit::machines};

#[sqlx::test(migrations = false)]
async fn the_change_that_is_named_lets_the_cluster_lose_a_host(pool: PgPool) {
    let world = World::new(false).await;
    let served = serve(&pool, &world).await;
    let admin = first_day(&served.desk, &world.net, 3).await;
    migration_network(&served.desk, &admin).await;
    // 372 GiB for machines on each host. anchor finds room nowhere else until tender leaves the first.
    for (name, gib, host) in [
        ("barge", 60, "eider-01"),
        ("tender", 16, "eider-01"),
        ("anchor", 300, "eider-02"),
        ("cargo", 150, "eider-03"),
    ] {
        let estate = served.desk.look().estate;
        let cluster = estate.clusters.keys().next().copied();
        let ask = CreateMachines {
            pledge: None,
            host: estate.host_named(host).map(|h| h.id),
            ..machines(name, 1, cluster, gib)
        };
        done(
            &served.desk,
            &admin,
            Proposal::Machines(machines::Ask::Create(Box::new(ask))),
        )
        .await;
    }
    let base = &served.base;
    let b = Browser::start().await;
    sign_in(&b, base, "duty.admin", "harbour-lights").await;
    b.says("would not survive what it must").await;
    b.says("if eider-02 fails, 1 machine would find no place")
        .await;
    let id = served.desk.look().estate.clusters.keys().next().unwrap().0;
    b.go(&format!("{base}/clusters/{id}")).await;
    b.says("It survives one host only if it is not eider-02; limited by memory.")
        .await;
    b.says("With tender moved from eider-01 to").await;
    b.press("#if-2 summary").await;
    b.says("it needs 301").await;

    // The change becomes a proposal, with headroom before and after, and is run.
    b.press("#headroom a[href^='/sheet/move']").await;
    b.says("Headroom of Eider").await;
    b.says("before: survives one host only if it is not eider-02")
        .await;
    b.press("form#sheet button[type=submit]").await;
    b.says("1 of 1 steps are done").await;
    b.go(&format!("{base}/clusters/{id}")).await;
    b.says("It survives any one host").await;
    b.go(base).await;
    b.says("Every cluster survives the host failures that it must.")
        .await;
    b.assert_quiet(&[]).await;
    world.assert_once();
}
