//! In the browser: many tabs at once, and sheets that keep what was typed.

use crate::{
    browser::Browser,
    first_day::first_day,
    road::{serve, sign_in},
    world::World,
};
use sqlx::PgPool;
use std::time::{Duration, Instant};

/// Browsers allow six connections to a place: with a stream for each page the seventh tab never loads.
#[sqlx::test(migrations = false)]
async fn twenty_tabs_are_live_and_none_waits_for_another(pool: PgPool) {
    let world = World::new(true).await;
    let served = serve(&pool, &world).await;
    first_day(&served.desk, &world.net, 3).await;
    let base = &served.base;
    let b = Browser::start().await;
    sign_in(&b, base, "duty.admin", "harbour-lights").await;
    let mut slowest = Duration::ZERO;
    for n in 0..20 {
        let tab = b.page.new_window(true).await.unwrap();
        b.page.switch_to_window(tab.handle).await.unwrap();
        let began = Instant::now();
        let place = ["/", "/hosts", "/machines", "/storage", "/logbook"][n % 5];
        b.go(&format!("{base}{place}")).await;
        b.says("Settings").await;
        slowest = slowest.max(began.elapsed());
    }
    assert!(
        slowest < Duration::from_secs(45),
        "a tab took {slowest:?}: it waited for another to let go"
    );
    // The last one is told what happens, and so is the first when somebody looks at it.
    let live = "return document.querySelector('#live').hidden";
    assert_eq!(
        b.page.execute(live, vec![]).await.unwrap(),
        true,
        "the page says that it is live"
    );
    b.go(&format!("{base}/hosts")).await;
    b.says("3 hosts steady").await;
    world.standins.world.power("eider-03", false);
    b.says("2 hosts steady, 1 not").await;
    b.assert_quiet(&[]).await;
}

#[sqlx::test(migrations = false)]
async fn what_was_typed_into_a_sheet_is_there_after_a_reload_and_after_going_back(pool: PgPool) {
    let world = World::new(true).await;
    let served = serve(&pool, &world).await;
    first_day(&served.desk, &world.net, 3).await;
    let base = &served.base;
    let b = Browser::start().await;
    sign_in(&b, base, "duty.admin", "harbour-lights").await;
    b.go(&format!("{base}/sheet/new-machines")).await;
    b.fill("#name", "stowage-{01}").await;
    b.fill("#count", "3").await;
    b.fill("[name=note]", "for the spring").await;
    let kept = "return location.search.includes('spring')";
    let began = Instant::now();
    while b.page.execute(kept, vec![]).await.unwrap() != true {
        assert!(
            began.elapsed() < Duration::from_secs(10),
            "what was typed is not kept"
        );
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    let value = async |css: &str| {
        let said = format!("return document.querySelector('{css}').value");
        b.page
            .execute(&said, vec![])
            .await
            .unwrap()
            .as_str()
            .unwrap_or_default()
            .to_owned()
    };
    b.page.refresh().await.unwrap();
    assert_eq!(value("#name").await, "stowage-{01}");
    assert_eq!(value("#count").await, "3");
    b.go(&format!("{base}/hosts")).await;
    b.page.back().await.unwrap();
    assert_eq!(value("[name=note]").await, "for the spring");
    b.assert_quiet(&[]).await;
}
