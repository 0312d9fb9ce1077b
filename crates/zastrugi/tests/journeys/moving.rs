//! In the browser: a console, a clock in it, and the machine moved beneath; then what was foretold beside what was.

use crate::{
    browser::Browser,
    first_day::{done, first_day, migration_network},
    road::{Served, serve, sign_in},
    world::World,
};
use fantoccini::{
    Locator,
    actions::{InputSource, KeyAction, KeyActions},
};
use sqlx::PgPool;
use zastrugi_core::rooms::machines;
use zastrugi_core::{rooms::Proposal, testkit::machines};
use zastrugi_engine::Viewer;

/// A network for migration, and one machine that answers.
async fn second_day(served: &Served, admin: &Viewer) {
    let cluster = served.desk.look().estate.clusters.keys().next().copied();
    migration_network(&served.desk, admin).await;
    let machine = machines("pier-1", 1, cluster, 8);
    done(
        &served.desk,
        admin,
        Proposal::Machines(machines::Ask::Create(Box::new(machine))),
    )
    .await;
}

/// Types into the terminal, which has the keyboard: key by key, as a hand does. A modifier is held until U+E000.
async fn types(b: &Browser, text: &str) {
    const CONTROL: char = '\u{e009}';
    let terminal = Locator::Css("[data-console] textarea");
    b.page.wait().for_element(terminal).await.unwrap();
    let mut keys = KeyActions::new("hand".into());
    for value in text.chars() {
        keys = match value {
            CONTROL => keys.then(KeyAction::Down { value }),
            '\u{e000}' => keys.then(KeyAction::Up { value: CONTROL }),
            _ => keys
                .then(KeyAction::Down { value })
                .then(KeyAction::Up { value }),
        };
    }
    b.page.perform_actions(keys).await.unwrap();
}

#[sqlx::test(migrations = false)]
async fn a_console_stays_with_its_machine_while_it_moves(pool: PgPool) {
    let world = World::new(false).await;
    let served = serve(&pool, &world).await;
    let admin = first_day(&served.desk, &world.net, 2).await;
    second_day(&served, &admin).await;
    let base = &served.base;
    let b = Browser::start().await;
    sign_in(&b, base, "duty.admin", "harbour-lights").await;
    b.says("Eider").await;

    // By the palette to the console; a sign-in, a command that writes, a clock.
    b.fill("#search", "console pier").await;
    b.press("#hits a[href^='/consoles?ids=']").await;
    b.says("only you look; you type").await;
    b.says("pier-1 name:").await;
    types(&b, "ann\u{e007}").await;
    b.says("password:").await;
    types(&b, "x\u{e007}").await;
    b.says("ann@pier-1:~$").await;
    types(&b, "dd\u{e007}").await;
    b.says("MiB written").await;
    types(&b, "\u{e009}c\u{e000}").await;
    types(&b, "clock\u{e007}").await;
    let estate = served.desk.look().estate;
    let machine = estate.machine_named("pier-1").unwrap().clone();
    let other = estate.hosts.values().find(|h| Some(h.id) != machine.host);
    let other = other.unwrap().name.clone();

    // Moved from a window beside it; the console follows without anybody doing anything.
    let console = b.page.window().await.unwrap();
    let beside = b.page.new_window(true).await.unwrap();
    b.page.switch_to_window(beside.handle).await.unwrap();
    b.go(&format!("{base}/sheet/move?ids={}", machine.id.0))
        .await;
    b.says("stands still for").await;
    b.press("form#sheet button[type=submit]").await;
    b.says("1 of 1 steps are done").await;
    b.says("were foretold").await;
    b.go(&format!("{base}/machines/{}", machine.id.0)).await;
    b.says("Its last move").await;
    b.says("measured:").await;
    b.page.close_window().await.unwrap();
    b.page.switch_to_window(console).await.unwrap();
    b.says(&format!("on {other}")).await;
    types(&b, "\u{e009}c\u{e000}").await;
    types(&b, "uptime\u{e007}").await;
    b.says("up ").await;

    // Its graphical screen, by the same strict policy; then the picture that a restart from there leaves.
    b.go(&format!("{base}/screen/{}", machine.id.0)).await;
    b.says("connected").await;
    b.press("select[data-combination] option[value='ctrl alt delete']")
        .await;
    b.go(&format!("{base}/machines/{}", machine.id.0)).await;
    b.says("somebody restarted it at its screen").await;
    b.assert_quiet(&[]).await;
    world.assert_once();
}
