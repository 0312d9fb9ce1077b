//! A thousand agents, really claimed and watched: how long that takes, and the memory of the process that does it.
//! The stand-ins run in a process of their own.
#![expect(
    clippy::unwrap_used,
    clippy::panic,
    reason = "a benchmark fails loudly"
)]

use std::{
    process::{Command, Stdio},
    time::{Duration, Instant},
};
use uuid::Uuid;
use zastrugi_core::rooms::hosts;
use zastrugi_core::{
    endpoint::{Endpoint, Password},
    permits::Role,
    rooms::Proposal,
    rooms::hosts::ClaimHosts,
    runs::RunState,
};
use zastrugi_engine::{Desk, Engine, EngineSettings, Viewer};
use zastrugi_store::testkit::{Scratch, resident};

#[tokio::main]
async fn main() {
    let scratch = Scratch::make().await;
    let dir = tempfile::tempdir().unwrap();
    let mut devices = Command::new(env!("CARGO_BIN_EXE_zastrugi"))
        .args([
            "standins",
            "--large",
            "1000x20000",
            "--net",
            "127.120",
            "--announcements",
            "0",
            "--control-token",
            "bench",
        ])
        .arg("--dir")
        .arg(dir.path())
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    tokio::time::sleep(Duration::from_secs(8)).await;
    measure(&scratch.url).await;
    devices.kill().unwrap();
    devices.wait().unwrap();
    scratch.remove().await;
}

async fn measure(url: &str) {
    let settings = EngineSettings {
        networks: "127.120.0.0/16".into(),
        works: true,
        ..EngineSettings::new(url.to_owned(), [5; 32])
    };
    let engine = Engine::start(settings).await.unwrap();
    let desk = engine.desk();
    println!("resident before: {} MiB", resident());
    let id = desk
        .add_person("ada", Role::Admin, "a thousand lanterns")
        .await
        .unwrap();
    let admin = Viewer {
        id,
        name: "ada".into(),
        role: Role::Admin,
    };
    let addresses: Vec<String> = (0..1000)
        .map(|n| format!("127.120.{}.{}:7443", 1 + n / 200, 1 + n % 200))
        .collect();
    let began = Instant::now();
    desk.greet(&addresses).await;
    println!("1,000 greetings: {:.1} s", began.elapsed().as_secs_f64());
    let found = desk.found();
    assert_eq!(found.len(), 1000);
    let began = Instant::now();
    for chunk in found.chunks(100) {
        let targets = chunk
            .iter()
            .map(|f| Endpoint {
                address: (&f.address).into(),
                pin: (&f.greeting.pin).into(),
            })
            .collect();
        let secret = desk.keep_secret("first-light").await.unwrap();
        let ask = Proposal::Hosts(hosts::Ask::Claim(ClaimHosts {
            targets,
            site: "Quayside".into(),
            password: Password::Kept(secret),
        }));
        let run = desk.start(&admin, ask, None, Uuid::new_v4()).await.unwrap();
        loop {
            let state = desk.run(run).await.unwrap().unwrap().0;
            match state.state {
                RunState::Done => break,
                RunState::NeedsYou => {
                    panic!("{:?}", state.steps().find_map(|s| s.fault.clone()))
                }
                _ => tokio::time::sleep(Duration::from_millis(50)).await,
            }
        }
    }
    println!(
        "1,000 hosts with 20,000 machines claimed by runs: {:.1} s",
        began.elapsed().as_secs_f64()
    );
    watched(&desk).await;
    engine.stop().await;
}

/// Waits until every host was heard of, and says what that takes.
async fn watched(desk: &Desk) {
    let began = Instant::now();
    while desk.look().loads.hosts.len() < 1000 {
        assert!(
            began.elapsed() < Duration::from_secs(120),
            "{} are watched",
            desk.look().loads.hosts.len()
        );
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
    println!(
        "all 1,000 watched after {:.1} s more",
        began.elapsed().as_secs_f64()
    );
    tokio::time::sleep(Duration::from_secs(15)).await;
    let estate = desk.look().estate;
    println!(
        "resident with 1,000 agents connected, {} hosts, {} machines: {} MiB",
        estate.hosts.len(),
        estate.machines.len(),
        resident()
    );
}
