//! Connecting a new volume to 64 hosts in one run: how long, and that each effect happened once.
#![expect(
    clippy::unwrap_used,
    clippy::panic,
    reason = "a benchmark fails loudly"
)]

#[path = "../tests/all/lab.rs"]
#[expect(dead_code, reason = "shared with the tests")]
mod lab;
#[path = "../tests/all/media.rs"]
mod media;

use lab::Lab;
use std::time::Instant;
use zastrugi_store::testkit::Scratch;

const HOSTS: u32 = 64;

#[tokio::main]
async fn main() {
    let scratch = Scratch::make().await;
    let lab = Lab::at(&scratch.url, HOSTS, true).await;
    lab.ready().await;
    lab.done(lab.array("first-light").await).await;
    let mut times = vec![];
    for round in 0..5 {
        let ask = lab.volume(&format!("quay-{round}"), Some(64)).await;
        let began = Instant::now();
        let run = lab.done(ask).await;
        times.push(began.elapsed().as_secs_f64());
        assert_eq!(run.tally.all(), 3 * 64 + 3);
    }
    times.sort_by(f64::total_cmp);
    lab.assert_once();
    println!(
        "a volume connected to {HOSTS} hosts (195 steps): median {:.2} s, slowest {:.2} s; each effect once",
        times[2], times[4]
    );
    let Lab { engine, .. } = lab;
    engine.stop().await;
    scratch.remove().await;
}
