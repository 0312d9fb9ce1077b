//! Finished steps a second, through engine, database and devices: in runs of 20 steps, of 200 and of 1,000.
//! The stand-ins share the processors, and write a volume's records whole.
#![expect(
    clippy::unwrap_used,
    clippy::panic,
    clippy::print_stdout,
    reason = "a benchmark fails loudly and says what it measured"
)]

#[path = "../tests/all/lab.rs"]
#[expect(dead_code, reason = "shared with the tests")]
mod lab;
#[path = "../tests/all/media.rs"]
mod media;

use lab::Lab;
use std::time::{Duration, Instant};
use zastrugi_core::{
    ids::MachineId,
    rooms::{Proposal, machines},
    runs::RunState,
};
use zastrugi_store::testkit::{Scratch, resident};

/// Looks often: at short runs the time until somebody looks would be what is measured.
async fn finish(lab: &Lab, ask: Proposal) {
    let run = lab.start(ask).await;
    loop {
        // A run that is over leaves the view.
        match lab.desk.look().runs.get(run).map(|r| r.state) {
            Some(RunState::NeedsYou) => panic!("{run} needs somebody"),
            Some(state) if state.open() => tokio::time::sleep(Duration::from_millis(1)).await,
            _ => return,
        }
    }
}

#[tokio::main]
async fn main() {
    let scratch = Scratch::make().await;
    let lab = Lab::at(&scratch.url, 16, true).await;
    lab.ready().await;
    for n in 0..10 {
        lab.done(lab.create(&format!("m{n}-{{001}}"), 100, false))
            .await;
    }
    let all: Vec<MachineId> = lab.estate().machines.keys().copied().collect();
    let mut deleted = false;
    for (n, rounds) in [(20, 20), (200, 4), (1000, 2), (20, 20), (200, 4), (1000, 2)] {
        let began = Instant::now();
        for _ in 0..rounds {
            let machines = all.iter().copied().take(n).collect();
            let ask = if deleted {
                machines::Ask::Recover {
                    machines,
                    how: Default::default(),
                }
            } else {
                machines::Ask::Delete { machines }
            };
            deleted = !deleted;
            finish(&lab, Proposal::Machines(ask)).await;
        }
        let took = began.elapsed().as_secs_f64();
        let steps = (n * rounds) as f64;
        println!(
            "runs of {n:>5} steps: {:>6.1} finished steps a second, {:.2} ms a step, {} MiB resident",
            steps / took,
            took * 1e3 / steps,
            resident()
        );
    }
    lab.engine.stop().await;
    scratch.remove().await;
}
