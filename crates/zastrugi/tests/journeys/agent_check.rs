//! Our own stand-in keeps every promise of the agent's protocol, and the published description names what it serves.

use crate::world::World;
use serde_json::Value;

#[tokio::test(flavor = "multi_thread")]
async fn the_stand_in_passes_the_conformance_suite() {
    let world = World::new(false).await;
    let address = world.standins.world.agents()["eider-01"].clone();
    let results = zastrugi_engine::check::run(&address, "5d1f-basalt-fast", "first-light").await;
    let wrong: Vec<_> = results.iter().filter(|r| r.problem.is_some()).collect();
    assert!(wrong.is_empty(), "{wrong:#?}");
    assert!(results.len() > 20);
    world.assert_once();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_wrong_password_fails_the_suite() {
    let world = World::new(false).await;
    let address = world.standins.world.agents()["eider-01"].clone();
    let results = zastrugi_engine::check::run(&address, "5d1f-basalt-fast", "wrong-light").await;
    assert!(
        results.iter().any(|r| r.problem.is_some()),
        "the suite can fail"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn the_command_prints_each_promise_and_fails_when_one_is_broken() {
    let world = World::new(false).await;
    let address = world.standins.world.agents()["eider-01"].clone();
    let check = async |password: &str| {
        let mut command = tokio::process::Command::new(env!("CARGO_BIN_EXE_zastrugi"));
        command
            .args(["agent-check", &format!("https://{address}"), "--volume"])
            .arg("5d1f-basalt-fast")
            .env("AGENT_PASSWORD", password);
        let output = command.output().await.unwrap();
        let said = String::from_utf8(output.stdout).unwrap();
        (output.status.success(), said)
    };
    let (passed, said) = check("first-light").await;
    assert!(passed, "{said}");
    assert!(said.lines().count() > 20, "{said}");
    let (passed, said) = check("wrong-light").await;
    assert!(!passed, "{said}");
    assert!(!said.contains("wrong-light"), "a password is never printed");
}

#[tokio::test(flavor = "multi_thread")]
async fn every_described_call_is_served() {
    let text = std::fs::read_to_string(concat!(
        env!("CARGO_MANIFEST_DIR"),
        "/../../docs/agent-api.json"
    ))
    .unwrap();
    let doc: Value = serde_json::from_str(&text).unwrap();
    assert!(doc["openapi"].as_str().unwrap().starts_with("3.1"));
    let world = World::new(false).await;
    let address = world.standins.world.agents()["eider-01"].clone();
    let mut calls = 0;
    for (path, methods) in doc["paths"].as_object().unwrap() {
        for method in methods
            .as_object()
            .unwrap()
            .keys()
            .filter(|m| *m != "parameters")
        {
            let path = path
                .replace("{uuid}", "00000000-0000-4000-8000-000000000000")
                .replace("{key}", "00000000-0000-4000-8000-000000000000")
                .replace("{uid}", "none")
                .replace("{name}", "none")
                .replace("{cluster}", "none")
                .replace("{index}", "1")
                .replace("{id}", "none");
            let status =
                zastrugi_engine::check::status(&address, &method.to_uppercase(), &path).await;
            // Not signed in, or no body: refused. A path or method that isn't served would be 404 or 405.
            assert!(
                [200, 400, 401, 415, 422].contains(&status),
                "{method} {path}: {status}"
            );
            calls += 1;
        }
    }
    assert_eq!(calls, 103);
}
