//! In the browser: a host's power is cut in Weather; its story is told until the last machine is back; nobody is asked for. Another
//! one is emptied, and put back.

use crate::{
    browser::Browser,
    first_day::{done, first_day, migration_network},
    road::{serve_with, sign_in},
    world::World,
};
use futures::future::BoxFuture;
use sqlx::PgPool;
use std::{collections::BTreeSet, sync::Arc, time::Duration};
use zastrugi_core::{
    guard::Times,
    rooms::{Proposal, machines, machines::CreateMachines},
    testkit::machines,
};
use zastrugi_standins as devices;
use zastrugi_web::{Climate, Gust, Sky, Weather, WebSettings};

/// Leases and everything that waits for them go so many times as fast.
const HASTE: u64 = 6;

/// The devices of this very process.
struct Here(Arc<devices::World>);

impl Climate for Here {
    fn skies(&self) -> BoxFuture<'_, Result<Vec<Sky>, String>> {
        let sky = |s: devices::Sky| Sky {
            kind: s.kind,
            name: s.name,
            words: s.words,
        };
        let all = self.0.weather().into_iter().map(sky).collect();
        Box::pin(async move { Ok(all) })
    }
    fn blow(&self, gust: Gust) -> BoxFuture<'_, Result<(), String>> {
        let gust = devices::Gust {
            kind: gust.kind,
            name: gust.name,
            word: gust.word,
            broken: gust.broken,
        };
        let known = self.0.blow(&gust);
        Box::pin(async move {
            known
                .then_some(())
                .ok_or_else(|| "there is no such device".into())
        })
    }
}

#[sqlx::test(migrations = false)]
async fn a_host_loses_its_power_and_nobody_has_to_do_anything(pool: PgPool) {
    let world = World::new(false).await;
    world.standins.world.hurry_leases(HASTE);
    let web = WebSettings {
        weather: Weather(Some(Arc::new(Here(world.standins.world.clone())))),
        ..WebSettings::default()
    };
    let guard = Some(Times::default().faster(HASTE));
    let served = serve_with(&pool, &world, guard, web).await;
    let admin = first_day(&served.desk, &world.net, 3).await;
    migration_network(&served.desk, &admin).await;
    let estate = served.desk.look().estate;
    let ask = CreateMachines {
        pledge: None,
        host: estate.host_named("eider-01").map(|h| h.id),
        ..machines("gate-{1}", 3, estate.clusters.keys().next().copied(), 8)
    };
    done(
        &served.desk,
        &admin,
        Proposal::Machines(machines::Ask::Create(Box::new(ask))),
    )
    .await;
    // Nobody is judged before one full lease was looked at.
    tokio::time::sleep(Duration::from_secs(65 / HASTE)).await;

    let base = &served.base;
    let b = Browser::start().await;
    sign_in(&b, base, "duty.admin", "harbour-lights").await;
    b.go(&format!("{base}/weather")).await;
    b.says("All devices of the demo are well.").await;
    b.press("[aria-label='eider-01: power']").await;
    b.says("One device is broken.").await;
    b.go(&format!("{base}/logbook/failures")).await;
    b.says("eider-01").await;
    b.press("td a").await;
    b.says("eider-01 failed").await;
    b.says("its controller said so twice").await;
    b.says("It is over. Of its machines, 3 of 3 are up.").await;
    b.go(base).await;
    b.says("Every cluster survives the host failures that it must.")
        .await;
    b.go(&format!("{base}/machines")).await;
    b.says("gate-3").await;

    // It comes back, and takes nothing with it.
    b.go(&format!("{base}/weather")).await;
    b.press("[aria-label='eider-01: power']").await;
    b.says("All devices of the demo are well.").await;
    b.go(base).await;
    b.says("3 hosts steady").await;

    // Another one is emptied for its turn at the bench, and put back with what had been there.
    let full = |served: &crate::road::Served| {
        let estate = served.desk.look().estate;
        let host = estate
            .hosts
            .values()
            .find(|h| estate.machines_on(h.id).count() > 0)
            .cloned()
            .unwrap();
        let had: BTreeSet<_> = estate.machines_on(host.id).map(|m| m.id).collect();
        (host, had)
    };
    let (host, had) = full(&served);
    b.go(&format!("{base}/hosts/{}", host.id.0)).await;
    b.press(".acts a[href^='/sheet/maintenance']").await;
    b.fill("[name=reason]", "new fans").await;
    b.says(&format!("Run: empty {}", host.name)).await;
    b.press("form#sheet button[type=submit]").await;
    b.says("it took").await;
    b.go(&format!("{base}/hosts/{}", host.id.0)).await;
    b.says("new fans").await;
    b.says("Nothing is on it").await;
    b.go(base).await;
    b.says("2 hosts steady, 1 in maintenance").await;
    b.go(&format!("{base}/hosts/{}", host.id.0)).await;
    b.press(".acts a[href^='/sheet/host-back']").await;
    b.says(&format!("Run: put {} back in service", host.name))
        .await;
    b.press("form#sheet button[type=submit]").await;
    b.says("it took").await;
    b.go(base).await;
    b.says("3 hosts steady").await;
    let estate = served.desk.look().estate;
    let has: BTreeSet<_> = estate.machines_on(host.id).map(|m| m.id).collect();
    assert_eq!(has, had, "what had been there is there again");
    b.assert_quiet(&[]).await;
    assert_eq!(world.standins.world.violations(), Vec::<String>::new());
}
