//! What a step of a run costs, by the size of the run; and what a run of 10,000 machines holds in memory.
#![expect(
    clippy::unwrap_used,
    clippy::print_stdout,
    clippy::disallowed_methods,
    reason = "a benchmark reads the clock and says what it measured"
)]

use std::{sync::Arc, time::Instant};
use zastrugi_core::{
    ids::MachineId,
    moment::Span,
    permits::Who,
    road::{Input, RunEvent, begin, turn},
    rooms::{Event, World, absorb_all, assess, machines},
    testkit::{Small, read},
    view::View,
};

fn resident() -> f64 {
    let text = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = text
        .lines()
        .find(|l| l.starts_with("VmRSS"))
        .unwrap_or_default();
    let kib: f64 = line
        .split_whitespace()
        .nth(1)
        .and_then(|k| k.parse().ok())
        .unwrap_or(0.0);
    kib / 1024.0
}

/// So many machines on 20 hosts.
fn fixture(n: u64) -> Small {
    let mut text = String::from("cluster a\n");
    for h in 1..=20 {
        text += &format!("host {h} 8192 cores=512\n");
    }
    for m in 0..n {
        text += &format!("machine {} m-{m} 8 on {}\n", 1000 + m, 1 + m % 20);
    }
    read(&text)
}

fn fold(world: &mut World, view: &View, events: &[Event]) -> View {
    absorb_all(world, events);
    View {
        runs: Arc::new(world.runs.clone()),
        ..view.with(world.estate.clone())
    }
}

/// Restarts so many machines in one run; answers microseconds for each step after the start.
fn restart(n: u64, most: usize) -> f64 {
    let small = fixture(n);
    let before = resident();
    let ask = machines::Ask::Power {
        machines: (0..n).map(|m| MachineId(1000 + m)).collect(),
        act: machines::PowerAct::Restart {
            grace: Span::secs(60),
            then: machines::AfterGrace::PowerOff,
        },
    };
    let began = Instant::now();
    let plan = assess(&small.view, &small.permits, &ask.into(), small.now)
        .accept()
        .unwrap();
    let assessed = began.elapsed();
    let (by, request) = (Who::itself(), uuid::Uuid::nil());
    let began = Instant::now();
    let mut world = small.world();
    let (run, events) = begin(&small.view, &world.plans, plan, by, request, small.now);
    let mut view = fold(&mut world, &small.view, &events);
    let started = began.elapsed();
    let of = |events: &[Event]| -> Vec<usize> {
        let step = |e: &Event| match e {
            Event::Work(RunEvent::Ordered { step, .. }) => Some(*step),
            _ => None,
        };
        events.iter().filter_map(step).collect()
    };
    let mut orders = of(&events);
    drop(events);
    let (began, mut done) = (Instant::now(), 0);
    while let Some(step) = orders.pop()
        && done < most
    {
        let input = Input::Succeeded {
            step,
            said: String::new(),
        };
        let events = turn(&view, &world.plans, run, input, small.now);
        view = fold(&mut world, &view, &events);
        orders.extend(of(&events));
        done += 1;
    }
    let each = began.elapsed().as_secs_f64() * 1e6 / done as f64;
    println!(
        "{n:>6} machines, {:>6} steps: assessed {:>7.1} ms, begun {:>7.1} ms, {each:>6.1} us a step, {:>6.1} MiB more",
        n * 4,
        assessed.as_secs_f64() * 1e3,
        started.as_secs_f64() * 1e3,
        resident() - before,
    );
    each
}

fn main() {
    for n in [5, 250, 2_500, 10_000] {
        restart(n, 4_000);
    }
}
