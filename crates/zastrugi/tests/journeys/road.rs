//! In the browser, from bare hosts to a machine that answers: everything an administrator does on the first day.

use crate::{browser::Browser, later, world::World};
use sqlx::PgPool;
use tokio::net::TcpListener;
use zastrugi_core::{guard::Times, permits::Role};
use zastrugi_engine::{Desk, Engine, EngineSettings, Media};
use zastrugi_standins::{Fault, FaultKind};
use zastrugi_store::testkit::url;
use zastrugi_web::WebSettings;

pub(crate) struct Served {
    pub(crate) base: String,
    pub(crate) desk: Desk,
    _engine: Engine,
}

pub(crate) async fn serve(pool: &PgPool, world: &World) -> Served {
    serve_with(pool, world, None, WebSettings::default()).await
}

/// The same with clusters that are guarded, or pages that have more to offer.
pub(crate) async fn serve_with(
    pool: &PgPool,
    world: &World,
    guard: Option<Times>,
    web: WebSettings,
) -> Served {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let port = listener.local_addr().unwrap().port();
    let settings = EngineSettings {
        networks: format!("{}.0.0/16", world.net),
        works: true,
        guard,
        announcements: world.announce,
        media: Media {
            dir: Some(world.media()),
            url: Some(format!("http://127.0.0.1:{port}")),
        },
        ..EngineSettings::new(url(pool), [9; 32])
    };
    let engine = Engine::start(settings).await.unwrap();
    let desk = engine.desk();
    desk.add_person("duty.admin", Role::Admin, "harbour-lights")
        .await
        .unwrap();
    desk.add_person("bridge.viewer", Role::Viewer, "spyglass-only")
        .await
        .unwrap();
    tokio::spawn(zastrugi_web::serve(desk.clone(), web, listener));
    Served {
        base: format!("http://127.0.0.1:{port}"),
        desk,
        _engine: engine,
    }
}

pub(crate) async fn sign_in(b: &Browser, base: &str, name: &str, password: &str) {
    b.go(&format!("{base}/sign-in")).await;
    b.fill("#name", name).await;
    b.fill("#password", password).await;
    b.press("button[type=submit]").await;
}

#[sqlx::test(migrations = false)]
async fn from_bare_hosts_to_a_machine_that_answers(pool: PgPool) {
    let world = World::new(false).await;
    let served = serve(&pool, &world).await;
    let base = &served.base;
    let b = Browser::start().await;

    // A wrong password, then the right one. The empty Field offers the next step.
    sign_in(&b, base, "duty.admin", "wrong").await;
    b.says("Name or password is wrong").await;
    b.fill("#password", "harbour-lights").await;
    b.press("button[type=submit]").await;
    b.says("No host is claimed yet").await;
    b.press(".empty a.button").await;

    // A scan that is too wide is refused at its field; the next one finds eight hosts and more.
    b.fill("#range", "10.0.0.0/8").await;
    b.press("main button.primary").await;
    b.says("addresses are too many").await;
    b.fill("#range", &format!("{}.1.11-14", world.net)).await;
    b.press("main button.primary").await;
    b.says("4 hosts answered").await;
    b.says("eider-04").await;
    b.press("input[data-pick-all]").await;
    b.press("#bulk a.primary").await;

    // The claim: a wrong first password stands at its field, nothing typed is lost.
    b.fill("#site", "Quayside").await;
    b.fill("#password", "last-light").await;
    b.press("form#sheet button[type=submit]").await;
    b.says("Password not accepted").await;
    b.fill("#password", "first-light").await;
    b.press("form#sheet button[type=submit]").await;
    b.says("4 of 4 steps are done").await;

    // A cluster of them.
    b.go(&format!("{base}/hosts")).await;
    b.says("4 hosts steady").await;
    b.press("input[data-pick]").await;
    b.go(&format!("{base}/sheet/new-cluster")).await;
    b.fill("#name", "Eider").await;
    for n in 1..=4 {
        b.press(&format!("#f-hosts label:nth-of-type({n}) input"))
            .await;
    }
    b.says("mount the volume, join ×4").await;
    b.press("form#sheet button[type=submit]").await;
    b.says("9 of 9 steps are done").await;

    machines(&b, &world, base).await;
    later::machine(&b, base).await;
    later::hand_back(&b, &world, base).await;
    later::people(&b, base).await;
    b.assert_quiet(&["status of 422", "status of 401", "status of 403"])
        .await;
    world.assert_once();
}

/// On a slow line, edits come faster than answers: the consequences are those of the last edit.
async fn last_edit_wins(b: &Browser) {
    let slow = "const real = window.fetch; window.quick = () => { window.fetch = real; };
        window.fetch = async (...ask) => { await new Promise((r) => setTimeout(r, 2000)); return real(...ask); };";
    b.page.execute(slow, vec![]).await.unwrap();
    for count in ["3", "4", "5"] {
        b.fill("#count", count).await;
        tokio::time::sleep(std::time::Duration::from_millis(350)).await;
    }
    b.says("Run: create 5 machines").await;
    b.page.execute("window.quick()", vec![]).await.unwrap();
}

/// Two machines, with a device that refuses on the way; then one is stopped, deleted and brought back.
async fn machines(b: &Browser, world: &World, base: &str) {
    b.keys("gm").await;
    b.says("Virtual machines stand here").await;
    b.keys("n").await;
    b.fill("#name", "Gate {01}").await;
    b.says("Names are in lower case").await;
    b.fill("#name", "gate-{01}").await;
    last_edit_wins(b).await;
    b.fill("#count", "2").await;
    b.says("Where it goes").await;
    // The consequences of what was typed last, and not those of one machine.
    b.says("Run: create 2 machines").await;
    let refuse = |host: &str| Fault {
        device: host.into(),
        call: "PUT /v1/machines".into(),
        kind: FaultKind::Refuse,
        times: 1,
    };
    for n in 1..=4 {
        world
            .standins
            .world
            .add_fault(refuse(&format!("eider-0{n}")));
    }
    b.press("form#sheet button[type=submit]").await;
    b.says("The device is busy with its own maintenance.").await;
    b.says("needs you").await;
    world.standins.world.clear_faults();
    b.press("button[value=retry]").await;
    b.says("6 of 6 steps are done").await;

    b.go(&format!("{base}/machines?q=gate-01")).await;
    b.says("steady").await;
    b.press("tbody a").await;
    b.says("It uses").await;
    b.press(".acts a[href*='act=stop']").await;
    b.press("input[value=off]").await;
    b.says("Run: power off gate-01").await;
    b.press("input[value=stop]").await;
    b.says("Run: stop gate-01").await;
    b.says("is asked to stop").await;
    b.press("form#sheet button[type=submit]").await;
    b.says("2 of 2 steps are done").await;
    b.go(&format!("{base}/machines?q=gate-01&state=off")).await;
    b.press("tbody a").await;
    b.deed("delete").await;
    b.says("Recoverable for 7 days").await;
    b.press("form#sheet button[type=submit]").await;
    b.says("1 of 1 steps are done").await;
    b.go(&format!("{base}/machines?state=deleted")).await;
    b.press("tbody a").await;
    b.press(".acts a.primary").await;
    b.press("form#sheet button[type=submit]").await;
    b.says("1 of 1 steps are done").await;

    b.go(base).await;
    b.says("Every cluster survives the host failures that it must")
        .await;
    b.go(&format!("{base}/logbook/events")).await;
    b.says("gate-01 was brought back").await;
}

#[sqlx::test(migrations = false)]
async fn a_viewer_looks_and_is_offered_nothing_and_a_broken_stream_is_said(pool: PgPool) {
    let world = World::new(false).await;
    let served = serve(&pool, &world).await;
    let b = Browser::start().await;
    sign_in(&b, &served.base, "bridge.viewer", "spyglass-only").await;
    b.says("No host is claimed yet").await;
    let text = b.text().await;
    assert!(!text.contains("Look for hosts"), "{text}");
    b.keys("?").await;
    b.says("find anything, or say what to do").await;
    b.press("#keys [data-close]").await;
    // Night and day by the settings page, kept for the person.
    b.keys("gs").await;
    b.press("main [x-data] button").await;
    b.says("Day").await;
    tokio::time::sleep(std::time::Duration::from_millis(300)).await;
    b.go(&served.base).await;
    let theme = b
        .page
        .execute("return document.documentElement.dataset.theme", vec![])
        .await
        .unwrap();
    assert_eq!(theme, "night");
    b.assert_quiet(&[]).await;
}
