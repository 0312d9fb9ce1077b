//! The demo's manager is a process of its own beside the devices: it can be killed and comes back, and it ends with the demo.

use crate::standing::set_up;
use serde_json::json;
use sqlx::PgPool;
use std::{net::TcpListener, path::Path, time::Duration};
use tokio::{net::TcpStream, process::Command, time::sleep};
use zastrugi_store::testkit::{Server, url};

fn free_port() -> u16 {
    let held = TcpListener::bind("127.0.0.1:0").unwrap();
    held.local_addr().unwrap().port()
}

async fn listens(port: u16, wanted: bool) {
    listens_at(("127.0.0.1", port), wanted).await;
}

async fn listens_at(at: (&str, u16), wanted: bool) {
    for _ in 0..600 {
        if TcpStream::connect(at).await.is_ok() == wanted {
            return;
        }
        sleep(Duration::from_millis(100)).await;
    }
    let open = TcpStream::connect(at).await.is_ok();
    assert_eq!(open, wanted, "whether {at:?} is open");
}

/// A demo of devices that nobody claimed.
fn demo(dir: &Path, net: &str, (port, control): (u16, u16)) -> Command {
    let mut demo = Command::new(env!("CARGO_BIN_EXE_zastrugi"));
    demo.args(["demo", "--empty", "--net", net, "--announcements", "0"])
        .args(["--port", &port.to_string()])
        .args(["--control-port", &control.to_string()])
        .arg("--dir")
        .arg(dir)
        .kill_on_drop(true);
    demo
}

/// The weather of a demo whose keys lie in this directory.
struct Sky {
    http: reqwest::Client,
    at: String,
    token: String,
}

impl Sky {
    fn of(dir: &Path, control: u16) -> Sky {
        let key = zastrugi_engine::read_key(&dir.join("control.key")).unwrap();
        let _ = rustls::crypto::ring::default_provider().install_default();
        Sky {
            http: reqwest::Client::builder().no_proxy().build().unwrap(),
            at: format!("http://127.0.0.1:{control}/weather"),
            token: key.iter().take(16).map(|b| format!("{b:02x}")).collect(),
        }
    }
    async fn blow(&self, kind: &str, name: &str, word: &str, broken: bool) {
        let gust = json!({"kind": kind, "name": name, "word": word, "broken": broken});
        let told = self
            .http
            .post(&self.at)
            .bearer_auth(&self.token)
            .json(&gust);
        assert!(told.send().await.unwrap().status().is_success(), "{gust}");
    }
    async fn skies(&self) -> Vec<serde_json::Value> {
        let told = self.http.get(&self.at).bearer_auth(&self.token).send();
        told.await.unwrap().json().await.unwrap()
    }
}

/// If this fails, the demo can't show what a second manager is for, or what it broke stays broken.
#[tokio::test(flavor = "multi_thread")]
async fn the_demos_first_site_goes_with_its_database_and_comes_back() {
    let dir = tempfile::tempdir().unwrap();
    let (first, copy) = (Server::make(), Server::place());
    let follows = set_up(dir.path(), &first, &copy).await;
    let (port, control) = (free_port(), free_port());
    let mut demo = demo(dir.path(), "127.254", (port, control))
        .env("DATABASE_URL", first.url())
        .env("STAND_BY_DATABASE_URL", follows)
        .spawn()
        .unwrap();
    let other = ("127.0.0.2", port + 1);
    listens(port, true).await;
    listens_at(other, true).await;
    let sky = Sky::of(dir.path(), control);
    sky.blow("manager", "manager", "gone with its database", true)
        .await;
    listens(port, false).await;
    listens(first.port, false).await;
    listens_at(other, true).await;
    sky.blow("manager", "manager", "gone with its database", false)
        .await;
    listens(first.port, true).await;
    listens(port, true).await;
    demo.kill().await.unwrap();
    listens(port, false).await;
    listens_at(other, false).await;
}

/// If this fails, *killed* on the weather's page kills nothing or for ever, or a demo that is gone leaves its manager behind.
#[sqlx::test(migrations = false)]
async fn the_demos_manager_is_killed_by_the_weather_comes_back_and_ends_with_the_demo(
    pool: PgPool,
) {
    let dir = tempfile::tempdir().unwrap();
    let (port, control) = (free_port(), free_port());
    // No other journey has this net: they take 228 to 251.
    let mut demo = demo(dir.path(), "127.253", (port, control))
        .env("DATABASE_URL", url(&pool))
        .spawn()
        .unwrap();
    listens(port, true).await;
    let sky = Sky::of(dir.path(), control);
    sky.blow("manager", "manager", "killed", true).await;
    listens(port, false).await;
    let all = sky.skies().await;
    let manager = all.iter().find(|s| s["kind"] == "manager").unwrap();
    assert_eq!(manager["words"][0], json!(["killed", true]));
    assert!(all.iter().any(|s| s["kind"] == "host"), "devices go on");
    // The database crashes too, by the same word: a guest's is its own.
    let guest = all.iter().find(|s| s["kind"] == "guest").unwrap();
    let name = guest["name"].as_str().unwrap();
    sky.blow("guest", name, "crash", true).await;
    let all = sky.skies().await;
    let guest = all.iter().find(|s| s["name"] == name).unwrap();
    assert_eq!(guest["words"][2], json!(["crash", true]));
    sky.blow("manager", "manager", "killed", false).await;
    listens(port, true).await;
    // However the demo ends, nothing of it is left.
    demo.kill().await.unwrap();
    listens(port, false).await;
}
