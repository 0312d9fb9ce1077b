//! In the browser: two machines that share a disk, somebody who changes that at a host, and machines that are kept ready.

use crate::{browser::Browser, world::World};

/// berth-1 and berth-2 become a guest cluster; what is changed at a host is named, and healed for both.
pub(crate) async fn cluster(b: &Browser, world: &World, base: &str) {
    b.go(&format!("{base}/machines?q=berth-1")).await;
    b.press("tbody a[href^='/machines/']").await;
    b.deed("Share a disk with others").await;
    b.fill("#name", "berth-quorum").await;
    b.says("one alone has nobody to take over from it").await;
    b.fill("#nodes", "berth-1, berth-9").await;
    b.says("There is no machine berth-9").await;
    b.fill("#nodes", "berth-1, berth-2").await;
    b.says("no snapshot of them can be taken").await;
    b.press("form#sheet button[type=submit]").await;
    b.says("3 of 3 steps are done").await;
    b.go(&format!("{base}/machines?q=berth-1")).await;
    b.press("tbody a[href^='/machines/']").await;
    b.press("a[href^='/storage/shared/']").await;
    b.says("writes: it holds the reservation").await;
    b.says("stands by, registered since").await;
    let writer = world.standins.world.writer("berth-quorum").unwrap();
    let other = if writer == "berth-1" {
        "berth-2"
    } else {
        "berth-1"
    };
    world.standins.world.share_otherwise(other, 2, false);
    b.says("shared with no reservations, and shall be with persistent reservations")
        .await;
    b.press(".acts a.primary").await;
    b.says(&format!(
        "{other} is on: its guest loses berth-quorum for a moment"
    ))
    .await;
    b.press("form#sheet button[type=submit]").await;
    b.says("1 of 1 steps are done").await;
    b.go(&format!("{base}/machines?q={other}")).await;
    b.press("tbody a[href^='/machines/']").await;
    b.says("and it stands by").await;
    b.press("a[href^='/storage/shared/']").await;
    b.says("as it shall be").await;
}

/// A pool of the template keeps one ready; somebody gets it, and gives it back.
pub(crate) async fn pool(b: &Browser, world: &World, base: &str) {
    b.go(&format!("{base}/pools")).await;
    b.press(".empty a.button").await;
    b.fill("#name", "deck trainers").await;
    b.fill("#pattern", "trainer").await;
    b.says("The names need a running number").await;
    b.fill("#pattern", "trainer-{1}").await;
    b.fill("#spare", "1").await;
    b.fill("#most", "2").await;
    b.says("1 check clear").await;
    b.press("form#sheet button[type=submit]").await;
    b.says("it was recorded at once").await;
    b.go(&format!("{base}/pools")).await;
    b.says("1 ready").await;
    b.press("tbody a[href^='/pools/']").await;
    b.press(".acts a.primary").await;
    b.says("Say who gets it").await;
    b.fill("#to", "crew 3").await;
    b.says("crew 3 gets trainer-1").await;
    b.press("form#sheet button[type=submit]").await;
    b.says("it was recorded at once").await;
    b.go(&format!("{base}/pools")).await;
    b.press("tbody a[href^='/pools/']").await;
    b.says("crew 3").await;
    b.press("a[href^='/sheet/give-back']").await;
    b.says("with everything that crew 3 left on it").await;
    b.press("form#sheet button[type=submit]").await;
    b.says("it was recorded at once").await;
    b.go(&format!("{base}/pools")).await;
    b.press("tbody a[href^='/pools/']").await;
    b.says("trainer-2").await;
    b.says("throws 1 away").await;
    while !world.standins.world.running("trainer-1").is_empty() {
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
    }
}
