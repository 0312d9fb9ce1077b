//! In the browser: a store is made, a machine backed up into it, and its key taken out; then everything comes out again on the command
//! line, without the manager, and in the application as machines and disks.

use crate::{
    browser::Browser,
    first_day::{done, first_day},
    road::{serve, sign_in},
    world::World,
};
use fantoccini::Locator;
use sqlx::PgPool;
use std::path::Path;
use tokio::process::Command;
use zastrugi_core::{
    rooms::{Proposal, machines},
    testkit,
    units::Bytes,
};

/// What the program says of the store, with nothing but its place and key.
async fn store(world: &World, dir: &Path, what: &str, more: &[&str]) -> String {
    let (address, pin) = world.standins.world.bucket_server("breakwater").unwrap();
    let said = Command::new(env!("CARGO_BIN_EXE_zastrugi"))
        .args(["store", what, &format!("https://{address}/skarholm")])
        .args(more)
        .args(["--access", "zastrugi", "--pin", &pin])
        .args(["--key-file".as_ref(), dir.join("key").as_os_str()])
        .args(["--secret-file".as_ref(), dir.join("secret").as_os_str()])
        .output()
        .await
        .unwrap();
    let words = format!(
        "{}{}",
        String::from_utf8_lossy(&said.stdout),
        String::from_utf8_lossy(&said.stderr)
    );
    assert!(said.status.success(), "{what}: {words}");
    words
}

#[sqlx::test(migrations = false)]
async fn a_machine_is_backed_up_and_comes_out_without_the_manager(pool: PgPool) {
    let world = World::new(false).await;
    let served = serve(&pool, &world).await;
    let (desk, base) = (&served.desk, &served.base);
    let admin = first_day(desk, &world.net, 2).await;
    let cluster = desk.look().estate.clusters.keys().next().copied();
    let mut skiff = testkit::machines("skiff", 1, cluster, 1);
    skiff.disks[0].size = Bytes::mib(64);
    done(
        desk,
        &admin,
        Proposal::Machines(machines::Ask::Create(Box::new(skiff))),
    )
    .await;
    let b = Browser::start().await;
    sign_in(&b, base, "duty.admin", "harbour-lights").await;
    backups(&b, &world, base, "skiff").await;
    back_again(&b, &world, base, "skiff").await;
    b.assert_quiet(&[]).await;
}

async fn backups(b: &Browser, world: &World, base: &str, machine: &str) {
    b.go(&format!("{base}/protect")).await;
    b.press("a[href='/sheet/make-store']").await;
    b.fill("#name", "breakwater").await;
    b.fill("#site", "Hilltop").await;
    b.fill("#bucket", "skarholm").await;
    b.fill("#access", "zastrugi").await;
    b.fill("#password", "first-light").await;
    b.fill("#address", &format!("{}.2.90:9443", world.net))
        .await;
    b.says("compare its fingerprint").await;
    b.press("form#sheet button[type=submit]").await;
    b.says("2 of 2 steps are done").await;
    b.go(&format!("{base}/machines?q={machine}")).await;
    b.press("tbody a[href^='/machines/']").await;
    b.deed("Back up").await;
    b.says("checks clear").await;
    b.press("form#sheet button[type=submit]").await;
    b.says("3 of 3 steps are done").await;
    b.go(&format!("{base}/protect")).await;
    b.says("1 of one machine").await;
    b.press("a[href^='/protect/stores/']").await;
    b.press("form[action$='/key'] button").await;
    b.says("The key of breakwater").await;
    let shown = b.page.find(Locator::Css(".note code")).await.unwrap();
    let key = shown.text().await.unwrap();
    // What is refreshed leaves it where it is.
    b.says("Last taken out").await;
    tokio::time::sleep(std::time::Duration::from_secs(3)).await;
    b.says(&key).await;
    let dir = tempfile::tempdir().unwrap();
    std::fs::write(dir.path().join("key"), format!("{key}\n")).unwrap();
    std::fs::write(dir.path().join("secret"), "first-light\n").unwrap();
    let listed = store(world, dir.path(), "list", &[]).await;
    assert!(
        listed.contains(machine) && listed.lines().count() == 1,
        "{listed}"
    );
    let checked = store(world, dir.path(), "check", &["--read"]).await;
    assert!(checked.contains("1 recovery points"), "{checked}");
    let out = dir.path().join("out");
    store(
        world,
        dir.path(),
        "restore",
        &[machine, "--out", out.to_str().unwrap()],
    )
    .await;
    let size = std::fs::metadata(out.join("disk-1.raw")).unwrap().len();
    assert_eq!(size, world.standins.world.disks(machine)[0]);
}

/// The same point makes another machine, gives it one more disk, and puts the first one back.
async fn back_again(b: &Browser, world: &World, base: &str, machine: &str) {
    b.go(&format!("{base}/protect")).await;
    b.press("a[href^='/protect/stores/']").await;
    b.press("tbody a").await;
    b.says("One recovery point").await;
    b.press("tbody a").await;
    b.says("hold something").await;
    let point = b.page.current_url().await.unwrap().to_string();
    b.press("a[href^='/sheet/new-machines?from=point-']").await;
    b.says("is still there: both have the same host keys").await;
    b.press("form#sheet button[type=submit]").await;
    b.says("3 of 3 steps are done").await;
    let made = format!("{machine}-restored");
    let disks = |m: &str| world.standins.world.disks(m);
    assert_eq!(disks(&made), disks(machine));

    b.go(&point).await;
    b.press("a[href^='/sheet/bring-disks?point=']").await;
    b.fill("#machine", &made).await;
    b.says("as its last disk").await;
    b.press("form#sheet button[type=submit]").await;
    b.says("2 of 2 steps are done").await;
    assert_eq!(disks(&made), [disks(machine), disks(machine)].concat());

    b.go(&point).await;
    b.press("a[href^='/sheet/put-back?']").await;
    b.says("it stays for 7 days in a snapshot").await;
    b.press("form#sheet button[type=submit]").await;
    b.says("7 of 7 steps are done").await;
}
