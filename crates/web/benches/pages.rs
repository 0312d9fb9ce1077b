//! Pages at 1,000 hosts and 20,000 machines, through Rocket's local client; and the rebuild of the estate.
#![expect(clippy::unwrap_used, reason = "a benchmark fails loudly")]

use rocket::{
    http::{ContentType, Cookie, Header},
    local::asynchronous::Client,
};
use std::{fmt::Write, time::Instant};
use zastrugi_core::{estate::Estate, permits::Role, testkit::read};
use zastrugi_engine::{Engine, EngineSettings};
use zastrugi_store::{
    Journal,
    testkit::{Scratch, keep},
};
use zastrugi_web::{WebSettings, build};

fn large() -> Estate {
    let mut text = String::new();
    for c in 0..63 {
        let _ = writeln!(text, "cluster c{c}");
        for h in (0..1000).filter(|h| h % 63 == c) {
            let _ = writeln!(text, "host {} 768 cores=64", h + 1);
        }
        for m in (0..20_000).filter(|m| m % 1000 % 63 == c) {
            let _ = writeln!(
                text,
                "machine {} m{m} {} on {} vcpus=2 label=app:a{}",
                m + 2001,
                8 + m % 4 * 8,
                m % 1000 + 1,
                m % 97
            );
        }
    }
    (*read(&text).view.estate).clone()
}

fn report(what: &str, mut times: Vec<f64>, extra: &str) {
    times.sort_by(f64::total_cmp);
    println!(
        "{what:<44} median {:>8.2} ms   p95 {:>8.2} ms   {extra}",
        times[times.len() / 2],
        times[times.len() * 95 / 100]
    );
}

/// Resident memory of this process in MiB.
fn resident() -> u64 {
    let text = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = text
        .lines()
        .find(|l| l.starts_with("VmRSS"))
        .unwrap_or_default();
    line.split_whitespace()
        .nth(1)
        .and_then(|k| k.parse::<u64>().ok())
        .unwrap_or(0)
        / 1024
}

#[rocket::main]
async fn main() {
    let scratch = Scratch::make().await;
    let own = zastrugi_store::connect(&scratch.url, 4).await.unwrap();
    keep(&own, &large()).await;
    let journal = Journal::new(own.clone());
    let mut times = vec![];
    for _ in 0..5 {
        let began = Instant::now();
        let estate = journal.load().await.unwrap();
        times.push(began.elapsed().as_secs_f64() * 1000.0);
        assert_eq!(estate.machines.len(), 20_000);
    }
    report("estate rebuilt from the database", times, "");
    pages(&scratch.url).await;
    own.close().await;
    scratch.remove().await;
}

async fn pages(url: &str) {
    let settings = EngineSettings::new(url.to_owned(), [3; 32]);
    let engine = Engine::start(settings).await.unwrap();
    engine
        .desk()
        .add_person("ada", Role::Admin, "benchmarks!")
        .await
        .unwrap();
    let web = WebSettings {
        address: "127.0.0.1".parse().unwrap(),
        port: 0,
        behind_proxy: false,
    };
    let client = Client::untracked(build(engine.desk(), web)).await.unwrap();
    let signed = client
        .post("/sign-in")
        .header(ContentType::Form)
        .header(Header::new("Sec-Fetch-Site", "same-origin"))
        .body("name=ada&password=benchmarks!")
        .dispatch()
        .await;
    let cookie: Cookie<'static> = signed
        .cookies()
        .get("zastrugi")
        .unwrap()
        .clone()
        .into_owned();
    for path in [
        "/machines",
        "/machines?q=m77",
        "/machines?label=app%3Da5",
        "/machines?sort=memory",
        "/machines?from=19900",
        "/hosts",
        "/field/part?cluster=905",
        "/",
    ] {
        let mut times = vec![];
        let mut size = 0;
        for _ in 0..60 {
            let began = Instant::now();
            let answer = client.get(path).cookie(cookie.clone()).dispatch().await;
            let body = answer.into_bytes().await.unwrap();
            times.push(began.elapsed().as_secs_f64() * 1000.0);
            size = body.len();
        }
        report(path, times, &format!("{} KiB", size / 1024));
    }
    println!(
        "resident memory with 1,000 hosts and 20,000 machines: {} MiB",
        resident()
    );
    engine.stop().await;
}
