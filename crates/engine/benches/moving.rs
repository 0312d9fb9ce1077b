//! What was foretold of 200 seeded migrations against what was measured; and what consoles cost.
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
use std::time::{Duration, Instant};
use zastrugi_core::rooms::{machines, moving};
use zastrugi_core::{
    ids::MachineId, rooms::Proposal, rooms::consoles::ConsoleOf, rooms::moving::Move, units::Bytes,
};
use zastrugi_engine::{ConsoleWay, Look, Told};
use zastrugi_store::testkit::{Scratch, resident};

const MACHINES: u32 = 25;
const ROUNDS: usize = 8;
const CONSOLES: usize = 50;

fn at(mut all: Vec<f64>, share: f64) -> f64 {
    all.sort_by(f64::total_cmp);
    let last = all.len() - 1;
    let place = zastrugi_core::units::round(last as f64 * share);
    all[usize::try_from(place).unwrap()]
}

async fn look(lab: &Lab, machine: MachineId) -> Look {
    let of = ConsoleOf::Machine(machine);
    let ticket = lab
        .desk
        .console_ticket(&lab.admin, of, ConsoleWay::Text, "bench", "")
        .await;
    lab.desk
        .console(&lab.admin, of, "bench", &ticket.unwrap())
        .unwrap()
}

async fn until(look: &mut Look, words: &str) {
    let mut read = String::new();
    while !read.contains(words) {
        match look.next().await {
            Some(Told::Printed(bytes)) => read.push_str(&String::from_utf8_lossy(&bytes)),
            Some(_) => {}
            None => panic!("too slow"),
        }
    }
}

/// Seconds of CPU that this process has used.
fn cpu() -> f64 {
    let stat = std::fs::read_to_string("/proc/self/stat").unwrap();
    let fields: Vec<&str> = stat
        .rsplit(')')
        .next()
        .unwrap()
        .split_whitespace()
        .collect();
    let ticks: f64 = fields[11].parse::<f64>().unwrap() + fields[12].parse::<f64>().unwrap();
    ticks / 100.0
}

async fn migrations(lab: &Lab) {
    let (mut downtimes, mut times, mut signed) = (vec![], vec![], vec![]);
    for _ in 0..ROUNDS {
        let machines: Vec<MachineId> = lab.estate().machines.keys().copied().collect();
        lab.done(Proposal::Moving(moving::Ask::Move(Move {
            disks: None,
            machines,
            to: None,
            slow: true,
            force: true,
            wire: false,
        })))
        .await;
        for machine in lab.estate().machines.values() {
            let moved = machine.moved.as_ref().unwrap();
            let foretold = moved.foretold.as_ref().unwrap();
            let error = moved.downtime_error().unwrap() as f64;
            downtimes.push(error.abs());
            signed.push(error);
            let (was, said) = (moved.measured.took.0 as f64, foretold.time().0 as f64);
            times.push((was - said).abs() / said * 100.0);
        }
    }
    println!(
        "{} migrations: downtime off by {:.0} ms (median), {:.0} ms (p95), bias {:+.0} ms; time off by {:.1} % (median), {:.1} % (p95)",
        times.len(),
        at(downtimes.clone(), 0.5),
        at(downtimes, 0.95),
        signed.iter().sum::<f64>() / signed.len() as f64,
        at(times.clone(), 0.5),
        at(times, 0.95)
    );
}

async fn consoles(lab: &Lab) {
    let machines: Vec<MachineId> = lab.estate().machines.keys().copied().collect();
    let mut one = look(lab, machines[0]).await;
    until(&mut one, "name: ").await;
    one.type_text("ann\rx\r").await;
    until(&mut one, ":~$ ").await;
    let mut trips = vec![];
    for n in 0..300u32 {
        let letter = char::from(b'a' + u8::try_from(n % 26).unwrap());
        let began = Instant::now();
        one.type_text(&letter.to_string()).await;
        until(&mut one, &letter.to_string()).await;
        trips.push(began.elapsed().as_secs_f64() * 1000.0);
        if n % 26 == 25 {
            one.type_text("\u{3}").await;
            until(&mut one, ":~$ ").await;
        }
    }
    println!(
        "a key to its echo through manager and host: {:.1} ms (median), {:.1} ms (p95)",
        at(trips.clone(), 0.5),
        at(trips, 0.95)
    );
    drop(one);
    let (memory, idle, began) = (resident(), cpu(), Instant::now());
    tokio::time::sleep(Duration::from_secs(5)).await;
    let idle = (cpu() - idle) / began.elapsed().as_secs_f64();
    let mut open = vec![];
    for n in 0..CONSOLES {
        let mut one = look(lab, machines[n % machines.len()]).await;
        until(&mut one, "name: ").await;
        open.push(one);
    }
    let (busy, began) = (cpu(), Instant::now());
    tokio::time::sleep(Duration::from_secs(5)).await;
    let busy = (cpu() - busy) / began.elapsed().as_secs_f64();
    println!(
        "{CONSOLES} consoles of {} machines open, manager and devices in one process: {} MiB more, {:.0} % of a core more than the {:.0} % without",
        machines.len(),
        resident().saturating_sub(memory),
        (busy - idle) * 100.0,
        idle * 100.0
    );
}

#[tokio::main]
async fn main() {
    let scratch = Scratch::make().await;
    let lab = Lab::at_speed(&scratch.url, 8, 4.0).await;
    lab.ready().await;
    lab.migration_network().await;
    for n in 0..MACHINES {
        let mut ask = lab.create(&format!("m{n}"), 1, true);
        if let Proposal::Machines(machines::Ask::Create(create)) = &mut ask {
            let size = Bytes::gib(u64::from(1 + n % 5));
            create.memory.size = size;
            create.memory.kept = size;
            create.memory.max = size;
        }
        lab.start(ask).await;
        lab.standins.world.busy(&format!("m{n}"), 5 + n * 37 % 200);
    }
    let began = Instant::now();
    let ready = || {
        let view = lab.desk.look();
        view.estate.machines.len() == MACHINES as usize
            && view.runs.is_empty()
            && view.estate.machines.keys().all(|m| {
                let load = view.loads.machines.get(m);
                load.is_some_and(|l| l.writes.is_some())
            })
    };
    while !ready() {
        assert!(began.elapsed() < Duration::from_secs(60), "not all are up");
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    for n in 0..MACHINES {
        // Not before there was a record to change.
        lab.standins.world.busy(&format!("m{n}"), 5 + n * 37 % 200);
    }
    tokio::time::sleep(Duration::from_secs(2)).await;
    migrations(&lab).await;
    consoles(&lab).await;
    lab.assert_once();
    let Lab { engine, .. } = lab;
    engine.stop().await;
    scratch.remove().await;
}
