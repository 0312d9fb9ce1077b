//! In the browser: what guests are told, and a machine that goes into an archive and comes back.

use crate::{browser::Browser, world::World};

const KEY: &str =
    "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAICqXUWw1S2iEjNvY9UoiagpVsh7ROOIHrWxcu5wAqlrq ops@desk";

/// A document with a mistake at its field; a machine whose guest is told it, and says what came of it.
pub(crate) async fn first_boot(b: &Browser, base: &str) {
    b.go(&format!("{base}/first-boot")).await;
    b.press(".empty a.button").await;
    b.fill("#name", "harbour ops").await;
    b.fill("#host_name", "gate").await;
    b.says("Without {name} in it several guests would be called alike")
        .await;
    b.fill("#host_name", "{name}.pier.example").await;
    b.fill("#user", "ops").await;
    b.fill("#password", "the-tide-turns").await;
    b.fill("#keys", KEY).await;
    b.fill("#commands", "exit 4").await;
    b.says("Only the hash of the password of ops is kept").await;
    b.press("form#sheet button[type=submit]").await;
    b.says("it was recorded at once").await;
    b.go(&format!("{base}/sheet/new-machines")).await;
    b.fill("#name", "skiff").await;
    b.fill("input[name=disk]", "8 MiB").await;
    b.pick("#document", "option:nth-child(2)").await;
    b.says("skiff.pier.example").await;
    b.press("form#sheet button[type=submit]").await;
    b.says("3 of 3 steps are done").await;
    b.go(&format!("{base}/machines?q=skiff")).await;
    b.press("tbody a[href^='/machines/']").await;
    b.says("not done: command 1 ended with 4: exit 4").await;
    b.go(&format!("{base}/first-boot")).await;
    b.says("not all done at 1").await;
    b.press("tbody a[href^='/first-boot/']").await;
    b.press(".deeds a").await;
    b.says("(the hash that is kept)").await;
    assert!(!b.text().await.contains("the-tide-turns"));
}

/// It is packed, fetched in parts, and another is made of it.
pub(crate) async fn archives(b: &Browser, world: &World, base: &str) {
    b.go(&format!("{base}/machines?q=skiff")).await;
    b.press("tbody a[href^='/machines/']").await;
    b.deed("Pack it into a file").await;
    b.says("skiff is on: its disks are read as a snapshot has them")
        .await;
    b.go(&format!("{base}/machines?q=skiff")).await;
    b.press("tbody a[href^='/machines/']").await;
    b.deed("Stop").await;
    b.press("form#sheet button[type=submit]").await;
    b.says("2 of 2 steps are done").await;
    b.go(&format!("{base}/machines?q=skiff")).await;
    b.press("tbody a[href^='/machines/']").await;
    b.deed("Pack it into a file").await;
    b.says("checks clear").await;
    b.press("form#sheet button[type=submit]").await;
    b.says("1 of 1 steps are done").await;
    b.go(&format!("{base}/storage")).await;
    b.says("a machine in an archive").await;
    b.page
        .find(fantoccini::Locator::LinkText("skiff.ova"))
        .await
        .unwrap()
        .click()
        .await
        .unwrap();
    b.says("as it was packed").await;
    let part = "const a = arguments; const done = a[a.length - 1];
        fetch(document.querySelector('a[download]').href, { headers: { Range: 'bytes=0-511' } })
            .then(async (r) => done([r.status, (await r.text()).slice(0, 9)]));";
    let part = b.page.execute_async(part, vec![]).await.unwrap();
    assert_eq!(part, serde_json::json!([206, "skiff.ovf"]));
    b.press(".acts a.primary").await;
    b.says("Its cards are on: crew").await;
    b.fill("#name", "skiff-2").await;
    b.says("checks clear: addresses, contents, headroom, identity")
        .await;
    b.press("form#sheet button[type=submit]").await;
    b.says("3 of 3 steps are done").await;
    assert_eq!(world.standins.world.running("skiff-2").len(), 1);
    assert_eq!(world.standins.world.disks("skiff-2"), [8 << 20]);
}
