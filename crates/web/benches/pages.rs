//! Pages at 1,000 hosts and 20,000 machines, through Rocket's local client; and the rebuild of the estate.
#![expect(clippy::unwrap_used, reason = "a benchmark fails loudly")]

use rocket::{
    http::{ContentType, Cookie, Header},
    local::asynchronous::Client,
};
use std::{fmt::Write, time::Instant};
use uuid::Uuid;
use zastrugi_core::{
    estate::{Change, Estate, Touched},
    ids::Revision,
    moment::Span,
    permits::Role,
    testkit::read,
};
use zastrugi_engine::{Engine, EngineSettings};
use zastrugi_store::Journal;
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

async fn store(journal: &Journal) {
    let estate = large();
    let mut change = Change::default();
    for fact in estate.facts() {
        change
            .touched
            .insert((fact.kind(), fact.id()), Touched::Put(fact));
    }
    let mut batch = journal.begin().await.unwrap();
    batch.write(Revision(1), &change, &[], &[]).await.unwrap();
    batch.commit(Revision(1), Uuid::new_v4()).await.unwrap();
}

#[rocket::main]
async fn main() {
    let base = std::env::var("DATABASE_URL").unwrap();
    let pool = sqlx::PgPool::connect(&base).await.unwrap();
    let name = format!("bench_{}", Uuid::new_v4().simple());
    sqlx::query(sqlx::AssertSqlSafe(format!("create database {name}")))
        .execute(&pool)
        .await
        .unwrap();
    let url = format!("{}/{name}", &base[..base.rfind('/').unwrap()]);
    let own = zastrugi_store::connect(&url, 4).await.unwrap();
    zastrugi_store::migrate(&own).await.unwrap();
    let journal = Journal::new(own.clone());
    store(&journal).await;
    let mut times = vec![];
    for _ in 0..5 {
        let began = Instant::now();
        let estate = journal.load().await.unwrap();
        times.push(began.elapsed().as_secs_f64() * 1000.0);
        assert_eq!(estate.machines.len(), 20_000);
    }
    report("estate rebuilt from the database", times, "");
    pages(&url).await;
    own.close().await;
    sqlx::query(sqlx::AssertSqlSafe(format!(
        "drop database {name} with (force)"
    )))
    .execute(&pool)
    .await
    .unwrap();
}

async fn pages(url: &str) {
    let settings = EngineSettings {
        database: url.to_owned(),
        connections: 6,
        key: [3; 32],
        name: "Bench".into(),
        networks: String::new(),
        announcements: None,
        announcements_everywhere: false,
        works: false,
        order_lease: Span::secs(30),
        die_at: None,
    };
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
