//! A second manager on a database that follows: it shows what it received, takes over when the first is gone, and whoever was
//! before is refused by every device.

use crate::lab::{Lab, eventually, eventually_within, scenario, until};
use sqlx::PgPool;
use std::time::{Duration, Instant};
use uuid::Uuid;
use zastrugi_core::{
    estate::Condition,
    guard::Times,
    ids::RunId,
    permits::Role,
    rooms::{Proposal, machines},
    runs::{FaultKind, RunState},
};
use zastrugi_engine::{
    Asking, Engine, EngineSettings, EventFilter, Link, Resolve, StandByKey, StandBys, StartError,
    TakeOverError, Viewer, WrapError,
};
use zastrugi_store::{Wanted, prepare, testkit::Server};

const HASTE: u64 = 6;

/// The manager's server, made ready as the command does it.
async fn leading() -> Server {
    let server = Server::make();
    let wanted = Wanted {
        manager: "zastrugi",
        role: "zastrugi_stand_by",
        password: "abc123",
        slot: "zastrugi_hilltop",
    };
    let ready = prepare(&server.admin(), wanted).await.unwrap();
    assert!(
        ready
            .settings
            .iter()
            .any(|(name, _)| name == "max_connections")
    );
    // Again, by whoever invites a second time.
    prepare(&server.admin(), wanted).await.unwrap();
    server
}

async fn lab(server: &Server) -> Lab {
    let url = server.url();
    let lab = Lab::with(&url, scenario(3), 40.0, |settings| {
        settings.guard = Some(Times::default().faster(HASTE));
    });
    let lab = lab.await;
    lab.standins.world.hurry_leases(HASTE);
    lab.ready().await;
    lab
}

fn there(lab: &Lab, server: &Server) -> EngineSettings {
    EngineSettings {
        database: server.url(),
        stand_by: Some(Uuid::new_v4()),
        ..lab.settings.clone()
    }
}

async fn knows(engine: &Engine, machine: &str) {
    let desk = engine.desk();
    eventually("it received it", || {
        desk.look().estate.machine_named(machine).is_some()
    })
    .await;
}

fn create(engine: &Engine, name: &str) -> Proposal {
    let cluster = engine.desk().look().estate.clusters.keys().next().copied();
    Proposal::Machines(machines::Ask::Create(Box::new(machines::CreateMachines {
        pledge: None,
        start: true,
        ..zastrugi_core::testkit::machines(name, 1, cluster, 2)
    })))
}

/// What the Logbook says of histories.
async fn told(engine: &Engine) -> Vec<String> {
    let filter = EventFilter {
        kind: "history".into(),
        ..EventFilter::default()
    };
    let events = engine.desk().events(&filter, 50).await.unwrap();
    events.into_iter().map(|e| e.text).collect()
}

fn steady(engine: &Engine) -> usize {
    let estate = engine.desk().look().estate;
    estate
        .hosts
        .values()
        .filter(|h| h.condition == Condition::Steady)
        .count()
}

/// Until each of the three hosts met history 2: what the Logbook says of histories then.
async fn all_met(engine: &Engine) -> Vec<String> {
    for _ in 0..200 {
        let all = told(engine).await;
        let met = all
            .iter()
            .filter(|t| t.contains("obeys history 2 and no older one"));
        if met.count() == 3 {
            return all;
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    panic!("{:#?}", told(engine).await);
}

/// Somebody signs in at a manager that stands by; answers who they are there.
async fn seated(engine: &Engine, name: &str, password: &str) -> (String, Viewer) {
    let asking = Asking {
        name,
        password,
        source: "192.0.2.7",
        browser: "",
        fresh: "",
    };
    let cookie = engine.desk().sign_in(asking).await.unwrap().cookie;
    let (viewer, ..) = engine.desk().session(&cookie, true).await.unwrap().unwrap();
    (cookie, viewer)
}

/// It shows what it receives, and changes nothing.
async fn only_shows(lab: &Lab, stands: &Engine, copy: &Server) {
    let desk = stands.desk();
    assert!(desk.stands_by());
    eventually("it hears of the manager", || {
        let received = desk.standing().received;
        received.is_some_and(|r| r.receives == Some(true) && r.beat.is_some())
    })
    .await;
    let (_, viewer) = seated(stands, "lab.admin", "laboratory lanterns").await;
    assert_eq!(viewer.role, Role::Viewer, "everybody only looks");
    for who in [&viewer, &lab.admin] {
        let ask = create(stands, "x");
        let refused = desk.start(who, ask, None, Uuid::new_v4()).await;
        assert!(
            refused.is_err(),
            "whatever role somebody brings: {refused:?}"
        );
    }
    let forgotten = EngineSettings {
        stand_by: None,
        ..there(lab, copy)
    };
    let Err(error) = Engine::start(forgotten).await else {
        panic!("a manager began on a database that follows");
    };
    assert!(error.to_string().contains("--stand-by"), "{error}");
}

/// An admin who types the name makes it take over, once; answers their cookie.
async fn takes_over(stands: &Engine) -> String {
    let desk = stands.desk();
    eventually("it answers", || desk.health().database).await;
    let (cookie, admin) = seated(stands, "lab.admin", "laboratory lanterns").await;
    let (_, looker) = seated(stands, "lab.viewer", "laboratory windows").await;
    let wrong = desk.take_over(&admin, "zastrugi!").await;
    assert!(matches!(wrong, Err(TakeOverError::Typed(_))), "{wrong:?}");
    let wrong = desk.take_over(&looker, "Zastrugi").await;
    assert!(matches!(wrong, Err(TakeOverError::NotAllowed)), "{wrong:?}");
    // Pressed twice at once.
    let press = || desk.take_over(&admin, "Zastrugi");
    let (once, twice) = tokio::join!(press(), press());
    once.unwrap();
    twice.unwrap();
    let turned = tokio::time::timeout(Duration::from_secs(5), desk.turned());
    turned.await.unwrap();
    cookie
}

/// What was under way waits for a person; what people ask for is done.
async fn people_go_on(lab: &Lab, second: &Engine, stuck: RunId) {
    let desk = second.desk();
    let waits = until(&desk, stuck, &[RunState::NeedsYou]).await;
    let fault = waits.steps().find_map(|s| s.fault.clone()).unwrap();
    assert_eq!(fault.kind, FaultKind::History);
    assert!(fault.said.starts_with("Another manager"), "{}", fault.said);
    desk.answer(&lab.admin, stuck, Resolve::Retry)
        .await
        .unwrap();
    until(&desk, stuck, &[RunState::Done]).await;
    let ask = create(second, "ebb");
    let run = desk.start(&lab.admin, ask, None, Uuid::new_v4()).await;
    until(&desk, run.unwrap(), &[RunState::Done]).await;
}

/// Nothing is begun by itself until somebody lets it go: a host that fails takes its machines with it so long.
async fn nothing_by_itself(lab: &Lab, second: &Engine) {
    let desk = second.desk();
    assert!(desk.automation_held().is_some());
    let estate = desk.look().estate;
    let gate = estate.machine_named("gate").unwrap();
    let host = estate.hosts[&gate.host.unwrap()].clone();
    lab.standins.world.power(&host.name, false);
    eventually_within("its silence is seen", 20, || {
        !desk.look().estate.hosts[&host.id].accepts_work()
    })
    .await;
    tokio::time::sleep(Duration::from_secs(3)).await;
    let runs = || lab.standins.world.running("gate").len();
    assert_eq!(runs(), 0, "nobody started it");
    desk.let_go(&lab.admin).await.unwrap();
    assert_eq!(desk.automation_held(), None);
    eventually_within("it is started elsewhere", 60, || runs() == 1).await;
}

/// The old manager comes back, and no device obeys it.
async fn the_old_one_stands_back(lab: &Lab, first: &Server) {
    first.start();
    let old = Engine::start(lab.settings.clone()).await.unwrap();
    let held = || old.desk().health().held;
    eventually("devices obey another", || held().is_some()).await;
    let why = held().unwrap();
    assert!(why.contains("another manager gives orders now"), "{why}");
    let ask = create(&old, "ghost");
    let desk = old.desk();
    let refused = desk.start(&lab.admin, ask, None, Uuid::new_v4()).await;
    assert!(matches!(refused, Err(StartError::Held(_))), "{refused:?}");
    old.stop().await;
}

/// If this fails, a manager whose site burns down takes the estate with it; or two of them give orders, or one that can't know
/// who lives starts machines twice.
#[tokio::test(flavor = "multi_thread")]
async fn a_stand_by_takes_over_and_the_old_manager_is_refused() {
    let first = leading().await;
    let lab = lab(&first).await;
    lab.desk
        .add_person("lab.viewer", Role::Viewer, "laboratory windows")
        .await
        .unwrap();
    let copy = first.copy();
    let stands = Engine::start(there(&lab, &copy)).await.unwrap();
    lab.done(lab.create("gate", 1, true)).await;
    let stuck = lab.unanswered("lugger", &["h1", "h2", "h3"]).await;
    knows(&stands, "lugger").await;
    only_shows(&lab, &stands, &copy).await;
    // It is away for a while: the manager goes on, and what it does then is lost with its site.
    copy.die();
    lab.done(lab.create("tide", 1, true)).await;
    first.die();
    copy.start();
    let cookie = takes_over(&stands).await;
    stands.stop().await;

    let began = Instant::now();
    let second = Engine::start(there(&lab, &copy)).await.unwrap();
    let desk = second.desk();
    assert!(!desk.stands_by());
    assert_eq!(
        desk.epoch().number,
        2,
        "one history, however often it is pressed"
    );
    let seated = desk.session(&cookie, true).await.unwrap();
    assert!(seated.is_some(), "nobody is sent away");
    eventually("hosts are heard", || steady(&second) == 3).await;
    let met = all_met(&second).await;
    println!(
        "each host met the new history {:?} after the manager began anew",
        began.elapsed()
    );
    let says = |words: &str| met.iter().any(|t| t.contains(words));
    assert!(says("things that are not known here"), "{met:#?}");
    assert!(says("This manager took over"), "{met:#?}");
    people_go_on(&lab, &second, stuck).await;
    nothing_by_itself(&lab, &second).await;
    the_old_one_stands_back(&lab, &first).await;
    second.stop().await;
    assert_eq!(lab.standins.world.violations(), Vec::<String>::new());
}

/// If this fails, somebody who promotes a copy by hand has two managers of one history, and devices obey both.
#[tokio::test(flavor = "multi_thread")]
async fn a_copy_that_was_promoted_by_hand_gives_no_orders() {
    let first = leading().await;
    let lab = lab(&first).await;
    let copy = first.copy();
    let stands = Engine::start(there(&lab, &copy)).await.unwrap();
    copy.tell("zastrugi", "select pg_promote()");
    tokio::time::timeout(Duration::from_secs(20), stands.desk().turned())
        .await
        .unwrap();
    stands.stop().await;
    let second = Engine::start(there(&lab, &copy)).await.unwrap();
    assert!(!second.desk().stands_by());
    let held = second.desk().health().held.unwrap();
    assert!(held.contains("was promoted"), "{held}");
    let refused = second
        .desk()
        .start(&lab.admin, create(&second, "x"), None, Uuid::new_v4())
        .await;
    assert!(matches!(refused, Err(StartError::Held(_))), "{refused:?}");
    // A person says that it is the one; the timeline is known from then on.
    second.desk().begin_history(&lab.admin).await.unwrap();
    second.stop().await;
    let again = Engine::start(there(&lab, &copy)).await.unwrap();
    assert_eq!(again.desk().health().held, None);
    again.stop().await;
}

/// If this fails, a stand-by can't open any secret when it is needed, or whoever copies the database can; or a manager does not
/// say that nobody follows it any more.
#[sqlx::test(migrations = false)]
async fn the_key_is_wrapped_for_whoever_is_invited_and_who_follows_is_seen(pool: PgPool) {
    let lab = Lab::new(&pool, 1).await;
    let stand_bys = StandBys::new(pool.clone());
    let (one, two) = (StandByKey::draw(), StandByKey::draw());
    stand_bys
        .invite("hilltop", "zastrugi_none", &one, &[7; 32])
        .await
        .unwrap();
    assert_eq!(stand_bys.key(&one).await.unwrap(), [7; 32]);
    assert!(matches!(stand_bys.key(&two).await, Err(WrapError::Unknown)));
    let seen = stand_bys.all().await.unwrap();
    assert_eq!(
        (seen[0].name.as_str(), seen[0].link),
        ("hilltop", Link::Expected)
    );
    eventually("pages know", || lab.desk.standing().stand_bys == seen).await;
    // Invited again, the first opens nothing any more.
    stand_bys
        .invite("hilltop", "zastrugi_none", &two, &[7; 32])
        .await
        .unwrap();
    assert!(matches!(stand_bys.key(&one).await, Err(WrapError::Unknown)));
    assert_eq!(stand_bys.key(&two).await.unwrap(), [7; 32]);
    let wrong = lab.desk.take_over(&lab.admin, "Zastrugi").await;
    assert!(matches!(wrong, Err(TakeOverError::Leads)), "{wrong:?}");
}
