//! The demo's manager is a process of its own beside the devices: it can be killed and comes back, and it ends with the demo.

use serde_json::json;
use sqlx::PgPool;
use std::{net::TcpListener, time::Duration};
use tokio::{net::TcpStream, process::Command, time::sleep};
use zastrugi_store::testkit::url;

fn free_port() -> u16 {
    let held = TcpListener::bind("127.0.0.1:0").unwrap();
    held.local_addr().unwrap().port()
}

async fn listens(port: u16, wanted: bool) {
    for _ in 0..600 {
        if TcpStream::connect(("127.0.0.1", port)).await.is_ok() == wanted {
            return;
        }
        sleep(Duration::from_millis(100)).await;
    }
    let open = TcpStream::connect(("127.0.0.1", port)).await.is_ok();
    assert_eq!(open, wanted, "whether port {port} is open");
}

/// If this fails, *killed* on the weather's page kills nothing or for ever, or a demo that is gone leaves its manager behind.
#[sqlx::test(migrations = false)]
async fn the_demos_manager_is_killed_by_the_weather_comes_back_and_ends_with_the_demo(
    pool: PgPool,
) {
    let dir = tempfile::tempdir().unwrap();
    let (port, control) = (free_port(), free_port());
    let mut demo = Command::new(env!("CARGO_BIN_EXE_zastrugi"))
        .args([
            "demo",
            "--empty",
            // No other journey has this net: they take 228 to 251.
            "--net",
            "127.253",
            "--announcements",
            "0",
        ])
        .args(["--port", &port.to_string()])
        .args(["--control-port", &control.to_string()])
        .arg("--dir")
        .arg(dir.path())
        .env("DATABASE_URL", url(&pool))
        .kill_on_drop(true)
        .spawn()
        .unwrap();
    listens(port, true).await;
    let key = zastrugi_engine::read_key(&dir.path().join("control.key")).unwrap();
    let token: String = key.iter().take(16).map(|b| format!("{b:02x}")).collect();
    let _ = rustls::crypto::ring::default_provider().install_default();
    let http = reqwest::Client::builder().no_proxy().build().unwrap();
    let weather = format!("http://127.0.0.1:{control}/weather");
    let blow = async |kind: &str, name: &str, word: &str, broken: bool| {
        let gust = json!({"kind": kind, "name": name, "word": word, "broken": broken});
        let told = http.post(&weather).bearer_auth(&token).json(&gust).send();
        assert!(told.await.unwrap().status().is_success(), "{gust}");
    };
    let skies = async || {
        let told = http.get(&weather).bearer_auth(&token).send().await.unwrap();
        told.json::<Vec<serde_json::Value>>().await.unwrap()
    };
    blow("manager", "manager", "killed", true).await;
    listens(port, false).await;
    let all = skies().await;
    let manager = all.iter().find(|s| s["kind"] == "manager").unwrap();
    assert_eq!(manager["words"][0], json!(["killed", true]));
    assert!(all.iter().any(|s| s["kind"] == "host"), "devices go on");
    // The database crashes too, by the same word: a guest's is its own.
    let guest = all.iter().find(|s| s["kind"] == "guest").unwrap();
    let name = guest["name"].as_str().unwrap();
    blow("guest", name, "crash", true).await;
    let all = skies().await;
    let guest = all.iter().find(|s| s["name"] == name).unwrap();
    assert_eq!(guest["words"][2], json!(["crash", true]));
    blow("manager", "manager", "killed", false).await;
    listens(port, true).await;
    // However the demo ends, nothing of it is left.
    demo.kill().await.unwrap();
    listens(port, false).await;
}
