//! How long headroom, placement, evacuation and balance take at 1,000 hosts and 20,000 machines in 32 clusters, and how each
//! grows from 5,000 machines.
#![expect(
    clippy::print_stdout,
    clippy::disallowed_methods,
    reason = "a benchmark reads the clock and prints"
)]

#[path = "shared/mod.rs"]
mod shared;

use shared::measure;
use std::hint::black_box;
use zastrugi_core::{
    availability::{CPU, Effort, Survival, Table, WELL, evacuate, model, pairs},
    balance::{Measure, balance},
    ids::{ClusterId, MachineId},
    placement::{Ledger, choose},
    testkit::{large, read},
};

fn all(machines: usize, gib: usize) {
    let small = read(&large(machines, gib));
    let view = &small.view;
    println!(
        "{} hosts, {} machines, one core",
        view.estate.hosts.len(),
        view.estate.machines.len()
    );
    let clusters: Vec<_> = view.estate.clusters.values().cloned().collect();
    measure("every cluster's matrix, k = 1", 5, || {
        for cluster in &clusters {
            black_box(Survival::of(view, cluster));
        }
    });
    let cluster = view.estate.clusters[&ClusterId(901)].clone();
    measure(
        "after one change: its cluster's table and matrix",
        50,
        || {
            black_box(Survival::of(view, &cluster));
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
    let answer = Survival::of(view, &cluster);
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
