//! How long headroom, placement, evacuation and balance take at 1,000 hosts and 20,000 machines in 32 clusters, and how each
//! grows from 5,000 machines.
#![expect(
    clippy::print_stdout,
    clippy::disallowed_methods,
    reason = "a benchmark reads the clock and prints"
)]

use std::{fmt::Write, hint::black_box, time::Instant};
use zastrugi_core::{
    availability::{Answer, CPU, Effort, Table, WELL, evacuate, model, pairs},
    balance::{Measure, balance},
    ids::{ClusterId, MachineId},
    placement::{Ledger, choose},
    testkit::{Small, read},
};

/// So many machines on 1,000 hosts in 32 clusters; some are kept apart, as in life.
fn large(machines: usize, gib: usize) -> Small {
    let mut text = String::new();
    for c in 0..32 {
        let _ = writeln!(text, "cluster c{c}");
        for h in (0..1000).filter(|h| h % 32 == c) {
            let _ = writeln!(text, "host {} 768 cores=64", h + 1);
        }
        for m in (0..machines).filter(|m| m % 1000 % 32 == c) {
            let apart = if m % 10 == 0 {
                format!(" apart=g{}", m / 10 % 200)
            } else {
                String::new()
            };
            let _ = writeln!(
                text,
                "machine {} m{m} {} on {} vcpus={} tier={}{apart}",
                m + 2001,
                gib + (m + m / 1000) % 5 * 12,
                m % 1000 + 1,
                2 + m % 3 * 2,
                1 + m % 4
            );
        }
    }
    read(&text)
}

fn report(what: &str, mut times: Vec<f64>) {
    times.sort_by(f64::total_cmp);
    println!(
        "{what:<58} median {:>9.3} ms   p95 {:>9.3} ms",
        times[times.len() / 2],
        times[times.len() * 95 / 100]
    );
}

fn measure(what: &str, rounds: usize, mut work: impl FnMut()) {
    let times = (0..rounds).map(|_| {
        let began = Instant::now();
        work();
        began.elapsed().as_secs_f64() * 1000.0
    });
    report(what, times.collect());
}

fn all(machines: usize, gib: usize) {
    let small = large(machines, gib);
    let view = &small.view;
    println!(
        "{} hosts, {} machines, one core",
        view.estate.hosts.len(),
        view.estate.machines.len()
    );
    let clusters: Vec<_> = view.estate.clusters.values().cloned().collect();
    measure("every cluster's matrix, k = 1", 5, || {
        for cluster in &clusters {
            black_box(Answer::of(view, cluster));
        }
    });
    let cluster = view.estate.clusters[&ClusterId(901)].clone();
    measure(
        "after one change: its cluster's table and matrix",
        50,
        || {
            black_box(Answer::of(view, &cluster));
        },
    );
    let (table, _): (Table, _) = model(view, &cluster);
    println!(
        "  a cluster has {} hosts and {} machines",
        table.hosts.len(),
        table.machines.len()
    );
    measure("k = 2 of it", 5, || {
        black_box(pairs(&table, Effort::QUICK));
    });
    let full = (0..table.hosts.len())
        .max_by_key(|h| table.on(*h).count())
        .unwrap_or(0);
    measure("evacuation of its fullest host", 100, || {
        black_box(evacuate(&table, full, Effort::QUICK));
    });
    let running = Measure {
        cpu: CPU,
        memory: WELL - 1,
        must_fit: CPU,
    };
    measure("balance of it with 5 moves", 10, || {
        black_box(balance(&table, running, 5));
    });
    let machine = view.estate.machines[&MachineId(2001)].clone();
    measure("one placement, the cluster's ledger included", 200, || {
        let ledger = Ledger::of(
            view,
            view.estate.hosts_in(cluster.id).cloned(),
            &[machine.id].into(),
        );
        black_box(choose(view, &ledger, &cluster, &machine, None)).ok();
    });
    let answer = Answer::of(view, &cluster);
    measure("what would raise it", 3, || {
        black_box(answer.clone().with_pairs().raise());
    });
}

fn main() {
    all(20_000, 8);
    // Nearly as full as can be: most failures can't be borne, and that must be proved.
    all(20_000, 12);
    all(5_000, 8);
}
