//! Logs, at the level that says the most: no cookie, password, token or key of anybody stands in them.

use crate::world::World;
use sqlx::PgPool;
use std::{net::TcpListener, process::Stdio, time::Duration};
use tokio::process::Command;
use zastrugi_core::permits::Role;
use zastrugi_engine::{Engine, EngineSettings};
use zastrugi_store::testkit::url;

const PASSWORD: &str = "planted-password-4711";
const DEVICE_PASSWORD: &str = "planted-device-password-4712";

/// If this fails, whoever reads the log can sign in, or give orders to hosts.
#[sqlx::test(migrations = false)]
async fn no_secret_stands_in_a_log_at_any_level(pool: PgPool) {
    let world = World::new(false).await;
    let key = world.dir.path().join("seal.key");
    let seal = zastrugi_engine::read_key(&key).unwrap();
    let engine = Engine::start(EngineSettings {
        networks: format!("{}.0.0/16", world.net),
        ..EngineSettings::new(url(&pool), seal)
    })
    .await
    .unwrap();
    engine
        .desk()
        .add_person("ada", Role::Admin, PASSWORD)
        .await
        .unwrap();
    engine.stop().await;
    let free = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = free.local_addr().unwrap().port();
    drop(free);
    let log = world.dir.path().join("log");
    let mut served = Command::new(env!("CARGO_BIN_EXE_zastrugi"))
        .args(["serve", "--announcements", "0", "--port", &port.to_string()])
        .arg("--key-file")
        .arg(&key)
        .env("DATABASE_URL", url(&pool))
        .env("RUST_LOG", "trace")
        .stdout(Stdio::null())
        .stderr(std::fs::File::create(&log).unwrap())
        .kill_on_drop(true)
        .spawn()
        .unwrap();
    let base = format!("http://127.0.0.1:{port}");
    // Another test of this process may have installed it.
    let _ = rustls::crypto::ring::default_provider().install_default();
    let http = reqwest::Client::builder()
        .no_proxy()
        .redirect(reqwest::redirect::Policy::none())
        .build()
        .unwrap();
    for _ in 0..200 {
        if http.get(format!("{base}/healthz")).send().await.is_ok() {
            break;
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    let post = |path: &str, cookie: &str, body: String| {
        http.post(format!("{base}{path}"))
            .header("Sec-Fetch-Site", "same-origin")
            .header("Content-Type", "application/x-www-form-urlencoded")
            .header("Cookie", cookie.to_owned())
            .body(body)
            .send()
    };
    let signed = post("/sign-in", "", format!("name=ada&password={PASSWORD}"))
        .await
        .unwrap();
    assert_eq!(signed.status(), 303);
    let cookies: Vec<String> = signed
        .headers()
        .get_all("set-cookie")
        .iter()
        .map(|c| c.to_str().unwrap().split(';').next().unwrap().to_owned())
        .collect();
    let cookie = cookies.join("; ");
    let page = http
        .get(&base)
        .header("Cookie", &cookie)
        .send()
        .await
        .unwrap();
    let page = page.text().await.unwrap();
    let csrf = page
        .split("data-csrf=\"")
        .nth(1)
        .unwrap()
        .split('"')
        .next()
        .unwrap()
        .to_owned();
    // A host is looked for, and its password is tried.
    let agents: Vec<String> = world.standins.world.agents().into_values().collect();
    let range = agents[0].split(':').next().unwrap().to_owned();
    drop(
        post(
            "/hosts/look",
            &cookie,
            format!("_csrf={csrf}&range={range}"),
        )
        .await
        .unwrap(),
    );
    tokio::time::sleep(Duration::from_secs(2)).await;
    let target: String = agents[0].replace(':', "%3A");
    let claim = format!(
        "_csrf={csrf}&sent=1&at={target}&host={target}&site=Quayside&password={DEVICE_PASSWORD}"
    );
    drop(post("/sheet/claim", &cookie, claim).await.unwrap());
    drop(
        post(
            "/sign-in",
            "",
            format!("name=ada&password=wrong-{PASSWORD}"),
        )
        .await
        .unwrap(),
    );
    tokio::time::sleep(Duration::from_secs(1)).await;
    served.kill().await.unwrap();
    let said = std::fs::read_to_string(&log).unwrap();
    let sealed: String = seal.iter().map(|b| format!("{b:02x}")).collect();
    let values = cookies
        .iter()
        .filter_map(|c| c.split_once('='))
        .filter(|(n, _)| *n != "theme");
    let mut planted: Vec<String> = values.map(|(_, v)| v.to_owned()).collect();
    planted.extend([PASSWORD.into(), DEVICE_PASSWORD.into(), csrf, sealed]);
    for secret in planted {
        assert!(secret.len() > 8, "{secret}");
        assert!(
            !said.contains(&secret),
            "a secret stands in the log: {secret}"
        );
    }
}
