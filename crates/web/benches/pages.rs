//! Pages at 1,000 hosts and 20,000 machines, through Rocket's local client; and the rebuild of the estate.
#![expect(clippy::unwrap_used, reason = "a benchmark fails loudly")]

use rocket::{
    http::{ContentType, Cookie, Header},
    local::asynchronous::Client,
};
use std::{collections::BTreeSet, fmt::Write, sync::Arc, time::Instant};
use zastrugi_core::{
    estate::{Estate, Fact, HostNet, Network},
    ids::{HostId, NetworkId},
    permits::Role,
    testkit::{self, read},
};
use zastrugi_engine::{Engine, EngineSettings};
use zastrugi_store::{
    Journal,
    testkit::{Scratch, keep, resident},
};
use zastrugi_web::{WebSettings, pages};

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

#[rocket::main]
async fn main() {
    let scratch = Scratch::make().await;
    let own = zastrugi_store::connect(&scratch.url, 4).await.unwrap();
    keep(&own, &large()).await;
    let journal = Journal::new(own.clone());
    let mut times = vec![];
    for _ in 0..5 {
        let began = Instant::now();
        let estate = journal.load().await.unwrap().1.estate;
        times.push(began.elapsed().as_secs_f64() * 1000.0);
        assert_eq!(estate.machines.len(), 20_000);
    }
    report("estate rebuilt from the database", times, "");
    let all = [
        "/machines",
        "/machines?q=m77",
        "/machines?label=app%3Da5",
        "/machines?sort=memory",
        "/machines?from=19900",
        "/hosts",
        "/field/part?cluster=905",
        "/",
    ];
    timed(&scratch.url, &all).await;
    println!(
        "resident memory with 1,000 hosts and 20,000 machines: {} MiB",
        resident()
    );
    own.close().await;
    scratch.remove().await;
    matrix().await;
}

/// 64 hosts with 40 networks each, all as meant but one.
async fn matrix() {
    let mut text = "cluster eider\n".to_owned();
    for h in 1..=64 {
        let _ = writeln!(text, "host {h} 256");
    }
    let mut estate = (*read(&text).view.estate).clone();
    let uplinks: BTreeSet<String> = ["uplink-1".to_owned()].into();
    let has = |vlan| HostNet {
        vlan: Some(vlan),
        mtu: 1500,
        uplinks: uplinks.clone(),
    };
    for n in 0u16..40 {
        estate.put(Fact::Network(Arc::new(Network {
            vlan: Some(100 + n),
            uplinks: uplinks.clone(),
            ..testkit::network(NetworkId(2000 + u64::from(n)), &format!("net-{n:02}"))
        })));
    }
    for id in 1..=64u64 {
        let mut host = (*estate.hosts[&HostId(id)]).clone();
        host.networks = (0u16..40)
            .map(|n| (format!("net-{n:02}"), has(100 + n)))
            .collect();
        if id == 9 {
            host.networks.remove("net-07");
        }
        estate.put(Fact::Host(Arc::new(host)));
    }
    let scratch = Scratch::make().await;
    let own = zastrugi_store::connect(&scratch.url, 4).await.unwrap();
    keep(&own, &estate).await;
    timed(&scratch.url, &["/networks"]).await;
    own.close().await;
    scratch.remove().await;
}

async fn timed(url: &str, paths: &[&str]) {
    let settings = EngineSettings::new(url.to_owned(), [3; 32]);
    let engine = Engine::start(settings).await.unwrap();
    engine
        .desk()
        .add_person("ada", Role::Admin, "benchmarks by lantern")
        .await
        .unwrap();
    let client = Client::untracked(pages(engine.desk(), WebSettings::default()))
        .await
        .unwrap();
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
    for path in paths {
        let mut times = vec![];
        let mut size = 0;
        for _ in 0..60 {
            let began = Instant::now();
            let answer = client.get(*path).cookie(cookie.clone()).dispatch().await;
            let body = answer.into_bytes().await.unwrap();
            times.push(began.elapsed().as_secs_f64() * 1000.0);
            size = body.len();
        }
        report(path, times, &format!("{} KiB", size / 1024));
    }
    engine.stop().await;
}
