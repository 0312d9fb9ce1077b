//! How far headroom is behind while 500 events a second come in: 1,000 hosts, 20,000 machines, 32 clusters, one process.
#![expect(
    clippy::unwrap_used,
    clippy::print_stdout,
    reason = "a benchmark fails loudly, and prints"
)]

use std::{
    sync::{
        Arc,
        atomic::{AtomicU64, Ordering},
    },
    time::{Duration, Instant},
};
use uuid::Uuid;
use zastrugi_core::rooms::edits;
use zastrugi_core::{
    ids::{MachineId, PersonId},
    permits::Role,
    rooms::Proposal,
    rooms::edits::{Set, Target},
    testkit::{large, read},
};
use zastrugi_engine::{Desk, Engine, EngineSettings, Viewer};
use zastrugi_store::testkit::{Scratch, keep};

/// Asked for; a few come late.
const EACH_SECOND: u64 = 510;
const SECONDS: u64 = 15;

/// Edits machines all over the estate, one event each.
async fn write(desk: Desk, viewer: Viewer, first: u64, written: Arc<AtomicU64>) {
    let mut pace = tokio::time::interval(Duration::from_millis(1000 * 24 / EACH_SECOND));
    let mut n = first;
    loop {
        pace.tick().await;
        let machine = MachineId(2001 + n * 37 % 20_000);
        let ask = Proposal::Edits(edits::Ask::Edit {
            targets: vec![Target::Machine(machine)],
            sets: vec![Set::Note(format!("{n}").into())],
        });
        if desk.start(&viewer, ask, None, Uuid::new_v4()).await.is_ok() {
            written.fetch_add(1, Ordering::Relaxed);
        }
        n += 24;
    }
}

#[tokio::main]
async fn main() {
    let scratch = Scratch::make().await;
    let pool = zastrugi_store::connect(&scratch.url, 4).await.unwrap();
    keep(&pool, &read(&large(20_000, 8)).view.estate).await;
    let engine = Engine::start(EngineSettings::new(scratch.url.clone(), [7; 32]))
        .await
        .unwrap();
    let desk = engine.desk();
    let id = desk
        .add_person("bench", Role::Admin, "a long password for it")
        .await
        .unwrap();
    let viewer = Viewer {
        id: PersonId(id.0),
        name: "bench".into(),
        role: Role::Admin,
    };
    let written = Arc::new(AtomicU64::new(0));
    let writers: Vec<_> = (0..24)
        .map(|n| tokio::spawn(write(desk.clone(), viewer.clone(), n, written.clone())))
        .collect();
    let began = Instant::now();
    let mut behind = Vec::new();
    while began.elapsed() < Duration::from_secs(SECONDS) {
        let now = desk.look().estate.revision;
        let asked = Instant::now();
        while desk.headrooms().0 < now {
            tokio::time::sleep(Duration::from_millis(5)).await;
        }
        behind.push(asked.elapsed().as_secs_f64() * 1000.0);
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    writers.iter().for_each(tokio::task::JoinHandle::abort);
    behind.sort_by(f64::total_cmp);
    println!(
        "{:.0} events a second; headroom of every cluster behind by {:.0} ms (median), {:.0} ms (p95), {:.0} ms (worst)",
        written.load(Ordering::Relaxed) as f64 / began.elapsed().as_secs_f64(),
        behind[behind.len() / 2],
        behind[behind.len() * 95 / 100],
        behind.last().unwrap()
    );
    engine.stop().await;
    drop(pool);
    scratch.remove().await;
}
