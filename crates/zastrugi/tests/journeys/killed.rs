//! The working process is killed at every boundary between an order and its written result. Whoever comes next goes on,
//! and each effect happens once.

use crate::world::World;
use sqlx::PgPool;
use std::{
    path::Path,
    process::{Child, Command, Stdio},
    time::{Duration, Instant},
};
use uuid::Uuid;
use zastrugi_core::rooms::hosts;
use zastrugi_core::{
    endpoint::{Endpoint, Password},
    ids::RunId,
    moment::Span,
    permits::Role,
    rooms::Proposal,
    rooms::hosts::ClaimHosts,
    runs::RunState,
};
use zastrugi_engine::{Desk, Engine, EngineSettings, Viewer};
use zastrugi_standins::{Fault, FaultKind};
use zastrugi_store::testkit::url;

fn worker(database: &str, key: &Path, net: &str, die_at: Option<&str>) -> Child {
    let mut command = Command::new(env!("CARGO_BIN_EXE_zastrugi"));
    command.args([
        "serve",
        "--port",
        "0",
        "--announcements",
        "0",
        "--order-lease",
        "6",
    ]);
    command
        .arg("--key-file")
        .arg(key)
        .args(["--networks", &format!("{net}.0.0/16")]);
    if let Some(boundary) = die_at {
        command.args(["--die-at", boundary]);
    }
    command
        .env("DATABASE_URL", database)
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap()
}

async fn done(desk: &Desk, run: RunId) {
    let began = Instant::now();
    loop {
        let found = desk.run(run).await.unwrap().unwrap().0;
        if found.state == RunState::Done {
            return;
        }
        assert!(began.elapsed() < Duration::from_secs(40), "{found:?}");
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}

#[sqlx::test(migrations = false)]
async fn killed_at_every_boundary_each_effect_happens_once(pool: PgPool) {
    let world = World::new(false).await;
    let key = world.dir.path().join("seal.key");
    let settings = EngineSettings {
        networks: format!("{}.0.0/16", world.net),
        order_lease: Span::secs(6),
        ..EngineSettings::new(url(&pool), zastrugi_engine::read_key(&key).unwrap())
    };
    let engine = Engine::start(settings).await.unwrap();
    let desk = engine.desk();
    let id = desk
        .add_person("ada", Role::Admin, "killed again at sea")
        .await
        .unwrap();
    let admin = Viewer {
        id,
        name: "ada".into(),
        role: Role::Admin,
    };
    let agents = world.standins.world.agents().into_iter();
    let agents: Vec<(String, String)> = agents.filter(|(n, _)| n.starts_with("eider")).collect();
    for (i, boundary) in ["order-taken", "call-sent", "answer-had", "result-written"]
        .into_iter()
        .enumerate()
    {
        let (name, address) = agents[i].clone();
        if boundary == "call-sent" {
            // The device takes its time, so that the call is under way when its sender dies.
            let slow = Fault {
                device: name.clone(),
                call: "POST /v1/claim".into(),
                kind: FaultKind::Slow,
                times: 1,
            };
            world.standins.world.add_fault(slow);
        }
        desk.greet(std::slice::from_ref(&address)).await;
        let pin = desk
            .found()
            .into_iter()
            .find(|f| f.address == address)
            .unwrap()
            .greeting
            .pin;
        let secret = desk.keep_secret("first-light").await.unwrap();
        let targets = vec![Endpoint {
            address: address.into(),
            pin: pin.into(),
        }];
        let ask = Proposal::Hosts(hosts::Ask::Claim(ClaimHosts {
            targets,
            site: "Quayside".into(),
            password: Password::Kept(secret),
        }));
        let run = desk.start(&admin, ask, None, Uuid::new_v4()).await.unwrap();
        let mut first = worker(&url(&pool), &key, &world.net, Some(boundary));
        let ended = tokio::task::spawn_blocking(move || first.wait().unwrap())
            .await
            .unwrap();
        assert!(
            ended.code().is_none(),
            "{boundary}: killed, not ended: {ended:?}"
        );
        let mut second = worker(&url(&pool), &key, &world.net, None);
        done(&desk, run).await;
        second.kill().unwrap();
        second.wait().unwrap();
        assert!(
            desk.look()
                .estate
                .host_named(&name)
                .is_some_and(|h| h.accepts_work()),
            "{boundary}: {name} is claimed"
        );
        world.assert_once();
    }
    engine.stop().await;
}
