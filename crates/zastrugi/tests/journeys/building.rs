//! In the browser: a cluster from hosts on which nothing is installed, with what goes wrong on such a day.

use crate::{
    browser::Browser,
    road::{serve, sign_in},
    world::World,
};
use sqlx::PgPool;
use zastrugi_standins::Quirk;

/// If this fails, nobody gets from bare metal to a cluster by the sheet, or one wrong value is found an hour later.
#[sqlx::test(migrations = false)]
async fn a_cluster_is_built_from_bare_metal_with_what_goes_wrong_mended_on_the_way(pool: PgPool) {
    let world = World::announcing().await;
    let served = serve(&pool, &world).await;
    let base = &served.base;
    let b = Browser::start().await;
    sign_in(&b, base, "duty.admin", "harbour-lights").await;
    b.go(&format!("{base}/hosts/look")).await;
    b.press(".acts a[href='/sheet/build']").await;

    // Their controllers: nobody there, then four of them, by their certificates; a wrong password is said once for all.
    let net = &world.net;
    b.fill("#name", "Skua").await;
    b.fill("#sheet #site", "Hilltop").await;
    b.fill("#range", &format!("{net}.102.90-93")).await;
    b.press("button[value=find]").await;
    b.says("No controller that is not claimed answers").await;
    b.fill("#range", &format!("{net}.102.21-24")).await;
    b.press("button[value=find]").await;
    b.says("not looked at").await;
    // The fourth is for another day.
    b.press(&format!("input[name=take][value^='{net}.102.24:']"))
        .await;
    b.fill("#password", "last-light").await;
    b.press("button[value=beneath]").await;
    b.says("does not take the account and password").await;
    b.fill("#password", "first-light").await;
    b.press("button[value=beneath]").await;
    b.says("Brattholm R1 112").await;

    // The rest of the sheet; each wrong value is said beside it.
    b.fill("#from", &format!("{net}.2.61")).await;
    let row = |n: usize, field: &str| format!("tbody tr:nth-of-type({n}) input[name=net-{field}]");
    for (n, vlan, subnet) in [
        (1, "10", format!("{net}.2.0/24")),
        (2, "50", "10.78.50.0/24".into()),
        (3, "40", "10.78.40.0/24".into()),
    ] {
        b.fill(&row(n, "subnet"), &subnet).await;
        b.fill(&row(n, "uplinks"), "uplink-3 uplink-4").await;
        b.fill(&row(n, "vlan"), vlan).await;
    }
    b.fill(&row(2, "vlan"), "50,60").await;
    b.says("is a list; one network has one VLAN").await;
    b.fill(&row(2, "vlan"), "50").await;
    b.says("no host of this model is known here").await;
    b.pick("#level", "option[value=v3]").await;
    b.says("The disks of skua-03 are not empty").await;
    b.press("input[name^='erase:']").await;
    b.says("is erased: mirror of a retired file server").await;

    // One host starts from the wrong disk; the others go on; it is mended and catches up.
    world.standins.world.quirk("bare-2", Quirk::BootOrder);
    b.press("#run-button").await;
    b.says("Build cluster Skua of 3 hosts").await;
    b.says("No bootable device was found").await;
    b.says("needs you").await;
    // Somebody remembers that its address is promised to another: it is corrected here, and the others are not touched.
    world.standins.world.quirk("bare-2", Quirk::None);
    b.press("[id^='correct-'] summary").await;
    b.fill("[name='to:address']", &format!("{net}.2.61")).await;
    b.press("button[value=correct]").await;
    b.says("is the address of skua-01").await;
    b.fill("[name='to:address']", &format!("{net}.2.66")).await;
    b.press("button[value=correct]").await;
    b.says("46 of 46 steps are done").await;
    b.go(&format!("{base}/logbook/events")).await;
    b.says(&format!("address {net}.2.66 instead of {net}.2.62"))
        .await;
    b.go(&format!("{base}/hosts")).await;
    b.says("3 hosts steady").await;

    expands(&b, base, net).await;
    b.assert_quiet(&["status of 422"]).await;
    world.assert_once();
}

/// If this fails, a cluster grows by a sheet that must be filled in as if nobody knew anything.
async fn expands(b: &Browser, base: &str, net: &str) {
    b.go(&format!("{base}/hosts/look")).await;
    b.says("1 controller of a host that is not claimed says that it is there")
        .await;
    b.press("form[action='/sheet/build'] button[value=find]")
        .await;
    b.says("Expand Skua").await;
    b.says("They get what the hosts of Skua have").await;
    b.fill("#password", "first-light").await;
    b.press("button[value=beneath]").await;
    b.says("Brattholm R1 112").await;
    b.press("#run-button").await;
    b.says("Expand Skua by skua-04").await;
    b.says("14 of 14 steps are done").await;
    b.go(&format!("{base}/hosts?q={net}.2.67")).await;
    b.says("skua-04").await;
}
