//! In the browser: a claimed host joins a cluster that is there, leaves it, and comes back.

use crate::{
    browser::Browser,
    first_day::{done, first_day, migration_network},
    road::{serve, sign_in},
    world::World,
};
use sqlx::PgPool;
use zastrugi_core::{
    endpoint::{Endpoint, Password},
    rooms::{
        Proposal,
        hosts::{Ask, ClaimHosts},
    },
};
use zastrugi_engine::{Desk, Viewer};

/// Claims the host at this address, as the sheet would.
async fn claim(desk: &Desk, admin: &Viewer, address: String) {
    desk.greet(std::slice::from_ref(&address)).await;
    let found = desk
        .found()
        .into_iter()
        .find(|f| f.address == address)
        .unwrap();
    let claim = ClaimHosts {
        targets: vec![Endpoint {
            address: found.address.into(),
            pin: found.greeting.pin.into(),
        }],
        site: "Quayside".into(),
        password: Password::Kept(desk.keep_secret("first-light").await.unwrap()),
    };
    done(desk, admin, Proposal::Hosts(Ask::Claim(claim))).await;
}

#[sqlx::test(migrations = false)]
async fn a_claimed_host_joins_with_all_that_the_others_have_and_comes_back_after_it_left(
    pool: PgPool,
) {
    let world = World::new(false).await;
    let served = serve(&pool, &world).await;
    let (desk, base) = (&served.desk, &served.base);
    let admin = first_day(desk, &world.net, 3).await;
    migration_network(desk, &admin).await;
    let b = Browser::start().await;
    sign_in(&b, base, "duty.admin", "harbour-lights").await;
    for time in ["first", "again"] {
        claim(desk, &admin, format!("{}.1.14:7443", world.net)).await;
        let id = desk.look().estate.host_named("eider-04").unwrap().id.0;
        b.go(&format!("{base}/hosts/{id}")).await;
        b.press(".acts a.primary").await;
        b.says("Join Eider").await;
        b.says("look at the paths").await;
        b.press("form#sheet button[type=submit]").await;
        b.says("steps are done").await;
        b.says("eider-04 joins Eider").await;
        b.go(&format!("{base}/hosts/{id}")).await;
        b.says("paths").await;
        b.says("migration").await;
        let text = b.text().await;
        assert!(
            !text.contains("not mounted") && !text.contains("missing on the host"),
            "{time}: {text}"
        );
        assert!(
            text.contains("quay-switch-1 port"),
            "its uplinks stand there: {text}"
        );
        b.go(&format!("{base}/sheet/hand-back?ids={id}")).await;
        b.says("No machine is on eider-04").await;
        b.press("form#sheet button[type=submit]").await;
        b.says("steps are done").await;
    }
    // The other way: claimed and joined by one sheet.
    let at = format!("{}.1.14:7443", world.net);
    b.go(&format!("{base}/sheet/claim?at={at}")).await;
    b.fill("#password", "first-light").await;
    b.pick("#cluster", "option:nth-of-type(2)").await;
    b.says("claim 1 host, join Eider").await;
    b.says("Where the cables of eider-04 lead shows once it is claimed")
        .await;
    b.press("#run-button").await;
    b.says("A new host joins Eider").await;
    b.says("steps are done").await;
    let id = desk.look().estate.host_named("eider-04").unwrap().id.0;
    b.go(&format!("{base}/hosts/{id}")).await;
    b.says("migration").await;
    b.assert_quiet(&[]).await;
}
