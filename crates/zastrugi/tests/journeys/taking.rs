//! In the browser: a cluster that somebody built by hand under another manager is taken over while it runs.

use crate::{
    browser::Browser,
    road::{serve, sign_in},
    world::World,
};
use sqlx::PgPool;

const MANAGER: &str = "Breakwater office";

/// If this fails, nobody takes over what runs already by the page, or a manager that is at work is robbed of it.
#[sqlx::test(migrations = false)]
async fn a_cluster_that_runs_is_found_read_and_taken_over(pool: PgPool) {
    let world = World::new(true).await;
    let served = serve(&pool, &world).await;
    let base = &served.base;
    let b = Browser::start().await;
    sign_in(&b, base, "duty.admin", "harbour-lights").await;
    b.go(&format!("{base}/hosts/look")).await;
    b.fill("#range", &format!("{}.2.31-33", world.net)).await;
    b.press("form[action='/hosts/look'] button").await;
    b.says("Take over what Breakwater office runs").await;
    b.press("a[href^='/sheet/take-over']").await;
    b.says("Compare the fingerprints").await;

    // What they have is read with their own password; a wrong one is said, and opens nothing.
    world.standins.world.former_automation(MANAGER, true);
    b.fill("#sheet #site", "Hilltop").await;
    b.fill("#password", "seven-boulders").await;
    b.press("button[value=read]").await;
    b.says("Password not accepted; 4 tries left").await;
    b.fill("#password", "seven-bollards").await;
    b.press("button[value=read]").await;
    b.says("What becomes of what they have").await;
    b.says("log-forwarder (container)").await;
    b.says("The automation of Breakwater office is on").await;
    world.standins.world.former_automation(MANAGER, false);
    b.press("button[value=read]").await;
    b.fill("#name", "Dunlin").await;
    b.says("These hosts belong to Breakwater office").await;
    b.fill("#former", MANAGER).await;
    // What is clear is folded up: only a manager that is silent is among it.
    b.says("owner, software, state").await;

    b.press("#run-button").await;
    b.says("Take over cluster Dunlin").await;
    b.says("29 of 29 steps are done").await;
    b.go(&format!("{base}/logbook/events")).await;
    b.says("dunlin-01 was taken over without a pause").await;
    b.go(&format!("{base}/machines?q=keel-db-1")).await;
    b.says("Dunlin").await;
    let deeds = world.standins.world.deeds();
    let touched = deeds
        .keys()
        .any(|d| d.contains("started") || d.contains("ended"));
    assert!(!touched, "nothing was started or ended: {deeds:?}");
    b.assert_quiet(&["status of 422"]).await;
    world.assert_once();
}
