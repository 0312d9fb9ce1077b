//! In the browser: a recovery plan is made in one sheet, found wanting until its machine is replicated, and drilled: somebody is asked,
//! answers, and reads the report.

use crate::{
    browser::Browser,
    first_day::{a_cluster, done, first_day},
    road::{serve, sign_in},
    world::World,
};
use sqlx::PgPool;
use zastrugi_core::{
    estate::{Goal, Way},
    ids::HostId,
    rooms::{
        Proposal,
        backups::JobRun,
        edits::{self, Set, Target},
        jobs, machines,
        pairs::{Ask as Pairs, Keep as KeepPair, KeepEnd},
        replicating,
    },
    testkit,
    units::Bytes,
};
use zastrugi_engine::{Desk, Viewer};

/// Two sites that are a pair, and a machine at the first that is on.
async fn two_sites(desk: &Desk, net: &str) -> Viewer {
    let admin = first_day(desk, net, 2).await;
    let there = (11..13).map(|n| format!("{net}.2.{n}:7443")).collect();
    a_cluster(desk, &admin, there, "Hilltop", "Fulmar").await;
    let estate = desk.look().estate;
    let end = |name: &str| {
        let site = estate.site_named(name).unwrap().id;
        let own = estate.hosts.values().filter(|h| h.site == site);
        KeepEnd {
            site: Some(site),
            carriers: own.map(|h| h.id).collect::<Vec<HostId>>(),
            network: None,
            cap: "".into(),
        }
    };
    let pair = KeepPair {
        pair: None,
        name: "strait".into(),
        ends: [end("Quayside"), end("Hilltop")],
        zone: "UTC".into(),
        squeezed: true,
        clusters: "Eider = Fulmar".into(),
        volumes: "".into(),
        networks: "".into(),
    };
    done(desk, &admin, Proposal::Pairs(Pairs::Keep(Box::new(pair)))).await;
    let cluster = estate.cluster_named("Eider").map(|c| c.id);
    let mut skiff = testkit::machines("skiff", 1, cluster, 1);
    skiff.disks[0].size = Bytes::mib(64);
    skiff.nics.clear();
    let create = machines::Ask::Create(Box::new(skiff));
    done(desk, &admin, Proposal::Machines(create)).await;
    let id = desk.look().estate.machine_named("skiff").unwrap().id;
    let label = edits::Ask::Edit {
        targets: vec![Target::Machine(id)],
        sets: vec![Set::Label {
            key: "app".into(),
            value: "ferry".into(),
        }],
    };
    done(desk, &admin, Proposal::Edits(label)).await;
    admin
}

/// It is replicated to the other site.
async fn replicated(desk: &Desk, admin: &Viewer) {
    let pair = desk.look().estate.pair_named("strait").unwrap().clone();
    let job = jobs::Keep {
        job: None,
        name: "over".into(),
        who: "app=ferry".into(),
        to: Some(Goal::Over(Way {
            pair: pair.id,
            from: pair.ends[0].site,
        })),
        rule: "FREQ=DAILY;BYHOUR=3;BYMINUTE=0".into(),
        zone: "UTC".into(),
        keeps: "last 2".into(),
        quiet: false,
        proves: None,
        begins: None,
        how: Default::default(),
    };
    done(desk, admin, Proposal::Jobs(jobs::Ask::Keep(job))).await;
    let job = *desk.look().estate.jobs.keys().next().unwrap();
    let run = JobRun { job, by_hand: true };
    done(
        desk,
        admin,
        Proposal::Replicating(replicating::Ask::Job(run)),
    )
    .await;
}

/// Until the plan is there.
async fn kept(desk: &Desk) {
    let began = std::time::Instant::now();
    while desk.look().estate.plan_named("harbour").is_none() {
        assert!(began.elapsed().as_secs() < 20, "the plan was not kept");
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
}

/// If this fails, nobody can plan what is done when a site is gone, or try it beforehand, with a browser alone.
#[sqlx::test(migrations = false)]
async fn a_plan_is_made_and_drilled(pool: PgPool) {
    let world = World::new(false).await;
    let served = serve(&pool, &world).await;
    let (desk, base) = (&served.desk, &served.base);
    let admin = two_sites(desk, &world.net).await;
    let b = Browser::start().await;
    sign_in(&b, base, "duty.admin", "harbour-lights").await;
    b.go(&format!("{base}/protect")).await;
    b.press("a[href='/sheet/plan']").await;
    b.fill("#name", "harbour").await;
    b.fill("#stage-0", "boats").await;
    b.fill("#who-0", "app=ferry").await;
    b.fill("#then-0", "confirm the skiff floats").await;
    b.says("skiff has no replica at Hilltop").await;
    b.press("form#sheet #run-button").await;
    kept(desk).await;
    b.go(&format!("{base}/protect")).await;
    b.says("skiff has no replica at Hilltop").await;
    replicated(desk, &admin).await;
    b.go(&format!("{base}/protect")).await;
    b.press("a[href^='/protect/plans/']").await;
    b.says("would work now").await;
    b.press("a[href^='/sheet/drill']").await;
    b.says("checks clear").await;
    b.press("form#sheet #run-button").await;
    b.go(&format!("{base}/protect")).await;
    b.press("a[href^='/protect/plans/']").await;
    b.says("Somebody is asked after stage boats: the skiff floats")
        .await;
    b.press("a[href^='/sheet/answer-plan']").await;
    b.fill("#note", "tried at the pier").await;
    b.press("form#sheet #run-button").await;
    b.says("Drill of harbour").await;
    b.says("all 1 came up well").await;
    b.says("confirmed by duty.admin: tried at the pier").await;
    assert_eq!(desk.look().estate.proving().count(), 0, "a copy is left");

    // In earnest, there and back.
    for (to, runs) in [("Hilltop", "fulmar-"), ("Quayside", "eider-")] {
        carried_out(&b, base, ("move-plan", "harbour")).await;
        b.says("Move of harbour").await;
        answered(&b).await;
        b.says("all 1 came up well").await;
        let estate = desk.look().estate;
        let skiff = estate.machine_named("skiff").unwrap();
        let host = &estate.hosts[&skiff.host.unwrap()].name;
        assert!(host.starts_with(runs), "{host} is not at {to}");
    }
    // Its site is gone.
    for host in ["eider-01", "eider-02"] {
        world.standins.world.power(host, false);
    }
    let began = std::time::Instant::now();
    let unheard = || {
        let estate = desk.look().estate;
        let skiff = estate.machine_named("skiff").unwrap();
        estate.unknown(skiff).is_some()
    };
    while !unheard() {
        assert!(began.elapsed().as_secs() < 60, "nobody notices that it is");
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
    }
    b.go(&format!("{base}/protect")).await;
    b.press("a[href^='/protect/plans/']").await;
    b.press("a[href^='/sheet/failover']").await;
    b.says("originals may still run at Quayside").await;
    b.fill("#typed", "Quayside").await;
    b.press("form#sheet #run-button").await;
    b.says("Failover of harbour").await;
    answered(&b).await;
    b.says("all 1 came up well").await;
    b.assert_quiet(&[]).await;
}

/// A sheet of the plan, confirmed by what it asks for.
async fn carried_out(b: &Browser, base: &str, (sheet, typed): (&str, &str)) {
    b.go(&format!("{base}/protect")).await;
    b.press("a[href^='/protect/plans/']").await;
    b.press(&format!("a[href^='/sheet/{sheet}']")).await;
    b.fill("#typed", typed).await;
    b.says("checks clear").await;
    b.press("form#sheet #run-button").await;
}

/// What the plan asks of a person.
async fn answered(b: &Browser) {
    b.says("Somebody is asked after stage boats: the skiff floats")
        .await;
    b.press("a[href^='/sheet/answer-plan']").await;
    b.press("form#sheet #run-button").await;
}
