//! In the browser, what machines need beneath them: an array, a volume for all hosts with a portal dead on the way, a
//! switch, a network, and a machine with an address. Claiming and the cluster are the first day's and done by the desk.

use crate::{
    browser::Browser,
    first_day::first_day,
    kept, packed,
    road::{serve, sign_in},
    world::World,
};
use sqlx::PgPool;
use zastrugi_standins::{Fault, FaultKind};

#[sqlx::test(migrations = false)]
async fn from_an_array_to_a_running_machine_with_an_address(pool: PgPool) {
    let world = World::bare().await;
    let served = serve(&pool, &world).await;
    // They see no volume: the cluster begins without one.
    first_day(&served.desk, &world.net, 3).await;
    let base = &served.base;
    let b = Browser::start().await;
    sign_in(&b, base, "duty.admin", "harbour-lights").await;
    b.says("Eider").await;

    // The array: its certificates are shown before the password is typed; a wrong address stands at its field.
    b.keys("gt").await;
    b.says("Volumes that hosts mount stand here").await;
    b.press(".empty a.button").await;
    b.fill("#addresses", &format!("{0}.1.203", world.net)).await;
    b.says("does not answer").await;
    b.fill("#addresses", &format!("{0}.1.201 {0}.1.202", world.net))
        .await;
    b.says("basalt answers at").await;
    b.fill("#password", "first-light").await;
    b.press("form#sheet button[type=submit]").await;
    b.says("1 of 1 steps are done").await;

    volume(&b, &world, base).await;
    network(&b, &world, base).await;
    image(&b, &world, base).await;

    b.go(&format!("{base}/sheet/new-machines")).await;
    b.fill("#name", "pier-1").await;
    b.pick("#image", "option:nth-child(2)").await;
    b.pick("#once", "option[value=image]").await;
    b.says("checks clear: addresses, disks, headroom, names, placement")
        .await;
    b.press("form#sheet button[type=submit]").await;
    b.says("3 of 3 steps are done").await;
    b.go(&format!("{base}/machines?q=pier-1")).await;
    b.press("tbody a[href^='/machines/']").await;
    b.says("crew · 10.2.0.10").await;
    assert_eq!(
        world.standins.world.guest_addresses("pier-1"),
        ["10.2.0.10/24"]
    );
    disks(&b, &world, base).await;
    copies(&b, &world, base).await;
    packed::first_boot(&b, base).await;
    packed::archives(&b, &world, base).await;
    kept::cluster(&b, &world, base).await;
    kept::pool(&b, &world, base).await;
    b.assert_quiet(&["status of 422", "status of 502"]).await;
    world.assert_once();
}

/// A disk comes, is detached, stands in Storage, and is attached again; all while the machine runs.
async fn disks(b: &Browser, world: &World, base: &str) {
    b.deed("Disks and cards").await;
    b.says("Nothing about the disks and cards of pier-1 is changed")
        .await;
    b.press("[data-add='#disk-row']").await;
    b.says("pier-1 has one more disk of 40").await;
    b.press("form#sheet button[type=submit]").await;
    b.says("1 of 1 steps are done").await;
    let size = |disk: usize| world.standins.world.disks("pier-1").get(disk).copied();
    assert_eq!(size(1), Some(40 << 30));
    b.go(&format!("{base}/machines?q=pier-1")).await;
    b.press("tbody a[href^='/machines/']").await;
    b.deed("Disks and cards").await;
    let last = "div#f-disks .row:last-of-type select";
    b.pick(last, "option[value=detach]").await;
    b.says("did not write to disk 2 yet is lost").await;
    b.press("form#sheet button[type=submit]").await;
    b.says("1 of 1 steps are done").await;
    b.go(&format!("{base}/storage")).await;
    b.says("Unattached disks").await;
    b.press("a[href^='/sheet/attach-disk']").await;
    b.says("Type the name of the machine that gets it").await;
    b.fill("#machine", "pier-9").await;
    b.says("There is no machine pier-9").await;
    b.fill("#machine", "pier-1").await;
    b.says("that pier-1 had, with everything on it").await;
    b.press("form#sheet button[type=submit]").await;
    b.says("1 of 1 steps are done").await;
    assert_eq!(size(1), Some(40 << 30));
}

/// A template of the machine, and two machines that lie on it.
async fn copies(b: &Browser, world: &World, base: &str) {
    b.go(&format!("{base}/machines?q=pier-1")).await;
    b.press("tbody a[href^='/machines/']").await;
    b.deed("Make a template of it").await;
    b.says("Give the template a name").await;
    b.fill("#name", "pier-base").await;
    b.says("checks clear").await;
    b.press("form#sheet button[type=submit]").await;
    b.says("1 of 1 steps are done").await;
    b.go(&format!("{base}/storage")).await;
    b.press("a[href^='/templates/']").await;
    b.says("SSH host keys, machine id").await;
    b.press(".acts a.button").await;
    b.pick("#dependent", "option[value=dependent]").await;
    b.fill("#name", "berth-{1}").await;
    b.fill("#count", "2").await;
    b.says("Each of the 2").await;
    b.press("form#sheet button[type=submit]").await;
    b.says("6 of 6 steps are done").await;
    assert_eq!(world.standins.world.running("berth-2").len(), 1);
    b.go(&format!("{base}/storage")).await;
    b.says("2 machines").await;
}

async fn volume(b: &Browser, world: &World, base: &str) {
    world
        .standins
        .world
        .portal("basalt", 2, Some("eider-02"), false);
    b.go(&format!("{base}/sheet/connect-volume")).await;
    b.fill("#name", "quay").await;
    b.fill("#size", "9 PiB").await;
    b.says("is not a unit").await;
    b.fill("#size", "2 TiB").await;
    b.says("checks clear: pool, volume").await;
    b.press("form#sheet button[type=submit]").await;
    b.says("12 of 12 steps are done").await;
    b.says("1 of 2 portals").await;
    b.go(&format!("{base}/storage")).await;
    b.says("1 host lacks paths").await;
    b.press("tbody a[href^='/storage/volumes/']").await;
    b.says("eider-02 has 1 of 2 paths").await;
    world
        .standins
        .world
        .portal("basalt", 2, Some("eider-02"), true);
    b.press("a[href*='heal-volume']").await;
    b.says("eider-02 has 1 of 2 paths to quay").await;
    b.press("form#sheet button[type=submit]").await;
    b.says("4 of 4 steps are done").await;
    b.go(&format!("{base}/storage")).await;
    b.says("1 volume, each mounted by all of its hosts on all paths")
        .await;
}

/// A file is sent, the page is reloaded on the way, the wrong file is refused, and the right one goes on.
async fn image(b: &Browser, world: &World, base: &str) {
    let dir = tempfile::tempdir().unwrap();
    let file = |name: &str, bytes: &[u8]| {
        let path = dir.path().join(name);
        std::fs::write(&path, bytes).unwrap();
        path.display().to_string()
    };
    let plain = file("plain.bin", &[7; 5000]);
    let payload: Vec<u8> = (0..20u32 << 20).map(|n| n.to_le_bytes()[1]).collect();
    let iso = zastrugi_formats::iso9660::write("PIER_1", &[("payload", &payload)]).unwrap();
    let iso = file("pier.iso", &iso);

    b.go(&format!("{base}/storage")).await;
    b.press("a[href='/sheet/add-image']").await;
    b.choose("#pick", &plain).await;
    b.says("it ends after 5000 bytes; an ISO 9660 image is longer")
        .await;
    b.choose("#pick", &iso).await;
    b.says("checks clear: contents, names, volume").await;
    // The hosts say no for a while.
    for host in ["eider-01", "eider-02", "eider-03"] {
        world.standins.world.add_fault(Fault {
            device: host.into(),
            call: "/bytes".into(),
            kind: FaultKind::Refuse,
            times: 1000,
        });
    }
    b.press("form#sheet button[type=submit]").await;
    b.says("busy with its own maintenance").await;
    b.page
        .execute(
            "addEventListener('beforeunload', (e) => e.stopImmediatePropagation(), true)",
            vec![],
        )
        .await
        .unwrap();
    b.page.refresh().await.unwrap();
    b.says("Choose the same file again").await;
    b.choose("#again", &plain).await;
    b.says("the file that was begun has").await;
    world.standins.world.clear_faults();
    b.choose("#again", &iso).await;
    b.says("The image pier is whole; its label is “PIER_1”")
        .await;

    let small = zastrugi_formats::iso9660::write("JETTY", &[("payload", &[7; 5000])]).unwrap();
    let cut = file("cut.iso", &small[..small.len() - 2048]);
    let jetty = file("jetty.iso", &small);
    b.go(&format!("{base}/sheet/add-image")).await;
    b.choose("#pick", &cut).await;
    b.says("it was cut off on its way").await;
    b.choose("#pick", &jetty).await;
    b.fill("#expected", &"0f".repeat(32)).await;
    b.says("checks clear: contents, names, volume").await;
    b.press("form#sheet button[type=submit]").await;
    b.says("its publisher names 0f0f").await;
    b.says("remove the image, and send the right file").await;
    let page = b.page.current_url().await.unwrap();
    b.press("a[href^='/logbook/runs/']").await;
    b.press("button[value=cancel]").await;
    b.says("cancelled").await;
    b.page.goto(page.as_str()).await.unwrap();
    b.says("It can't be finished any more: remove it").await;
}

async fn network(b: &Browser, world: &World, base: &str) {
    b.keys("gn").await;
    b.says("What their ports carry is unchecked").await;
    for n in ["221", "222"] {
        b.go(&format!("{base}/sheet/connect-switch")).await;
        b.fill("#address", &format!("{}.1.{n}", world.net)).await;
        b.says("answers at").await;
        b.fill("#password", "first-light").await;
        b.press("form#sheet button[type=submit]").await;
        b.says("1 of 1 steps are done").await;
    }
    b.go(&format!("{base}/sheet/new-network")).await;
    b.fill("#name", "crew").await;
    b.fill("#vlan", "20,30").await;
    b.says("is a list; one network has one VLAN").await;
    b.fill("#vlan", "20").await;
    b.fill("#subnet1", "10.2.0.0/24").await;
    b.fill("#gateway1", "10.3.0.1").await;
    b.says("10.3.0.1 is not in 10.2.0.0/24").await;
    b.fill("#gateway1", "10.2.0.1").await;
    b.fill("#guests1", "10.2.0.10-10.2.0.99").await;
    b.says("check clear: switch ports").await;
    b.press("form#sheet button[type=submit]").await;
    b.says("4 of 4 steps are done").await;
    // Somebody forgets it on one host; the picture shows it and one click mends it.
    world.standins.world.forget_network("eider-03", "crew");
    b.go(&format!("{base}/networks")).await;
    b.says("crew on eider-03: missing on the host").await;
    b.press("a[href*='heal-network']").await;
    b.press("form#sheet button[type=submit]").await;
    b.says("1 of 1 steps are done").await;
    b.go(&format!("{base}/networks")).await;
    b.says("1 network, on every host as they were meant").await;
}
