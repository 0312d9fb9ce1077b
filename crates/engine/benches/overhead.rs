//! What a run costs besides its devices: 20 steps in a row that a stand-in answers at once.
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
use zastrugi_core::rooms::edits;
use zastrugi_core::{
    rooms::Proposal,
    rooms::edits::{Set, Target},
};
use zastrugi_store::testkit::Scratch;

#[tokio::main]
async fn main() {
    let scratch = Scratch::make().await;
    let lab = Lab::at(&scratch.url, 1, true).await;
    lab.ready().await;
    lab.done(lab.create("m-{01}", 20, false)).await;
    let mut times = vec![];
    for round in 0..20u32 {
        let ids: Vec<_> = (1..=20)
            .map(|n| Target::Machine(lab.machine(&format!("m-{n:02}"))))
            .collect();
        let ask = Proposal::Edits(edits::Ask::Edit {
            targets: ids,
            sets: vec![Set::VCpus(1 + round % 2 + 1)],
        });
        let began = Instant::now();
        lab.done(ask).await;
        times.push(began.elapsed().as_secs_f64() * 1000.0 / 20.0);
    }
    times.sort_by(f64::total_cmp);
    println!(
        "a run of 20 record writes, per step: median {:.2} ms, p95 {:.2} ms",
        times[10], times[18]
    );
    let Lab { engine, .. } = lab;
    engine.stop().await;
    scratch.remove().await;
}
