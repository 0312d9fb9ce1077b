//! How good are the answers? 500 seeded instances (4–8 hosts, 10–40 machines, 60–105 % full, 0–30 % of the machines under
//! keep-apart rules) against exact methods that share no code with the core: a dynamic programme over all subsets of the
//! machines that must restart, and every sequence of moves.
//!
//! `cargo run --release -p zastrugi-quality [instances]`

#![expect(clippy::print_stdout, reason = "it prints its findings")]

mod exact;
mod instances;

use std::time::Instant;
use zastrugi_core::{
    availability::{CPU, Effort, MEMORY, Table, VCPUS, Verdict, fail},
    balance::{Measure, balance, imbalance},
};

/// The exact programme looks at every subset: machines of one failure at most.
const MOST: usize = 16;

#[derive(Default)]
struct Tally {
    rows: usize,
    equal: usize,
    undecided: usize,
    wrong_all: usize,
    wrong_some: usize,
    short: f64,
    worst: f64,
    left_out: usize,
}

fn restarts(table: &Table, effort: Effort, tally: &mut Tally, hosts: &[usize]) {
    let failing = table
        .machines
        .iter()
        .filter(|m| m.at.is_some_and(|at| hosts.contains(&at)))
        .count();
    if failing > MOST {
        tally.left_out += 1;
        return;
    }
    let ours = fail(table, hosts, effort);
    let best = exact::best(table, hosts);
    tally.rows += 1;
    let all = best.placed == failing;
    match (ours.verdict, all) {
        (Verdict::All, true) | (Verdict::Some, false) => tally.equal += 1,
        (Verdict::All, false) => tally.wrong_all += 1,
        (Verdict::Some, true) => tally.wrong_some += 1,
        (Verdict::Undecided, _) => tally.undecided += 1,
    }
    let kept = |m: &usize| table.machines[*m].kept;
    let have: u64 = ours.restarted.iter().map(|(m, _)| kept(m)).sum();
    if best.kept > 0 {
        let short = 1.0 - have as f64 / best.kept as f64;
        tally.short += short.max(0.0);
        tally.worst = tally.worst.max(short);
    }
}

fn print(what: &str, t: &Tally) {
    let percent = |n: usize| 100.0 * n as f64 / t.rows.max(1) as f64;
    println!(
        "{what}: {} failures ({} left out: more than {MOST} machines); verdict equal {:.2} %, undecided {:.2} %, wrong “all” {}, wrong “some” {}; always-kept memory short of the best by {:.3} % on average, {:.2} % at worst",
        t.rows,
        t.left_out,
        percent(t.equal),
        percent(t.undecided),
        t.wrong_all,
        t.wrong_some,
        100.0 * t.short / t.rows.max(1) as f64,
        100.0 * t.worst.max(0.0)
    );
}

fn main() {
    let count: u64 = std::env::args()
        .nth(1)
        .and_then(|n| n.parse().ok())
        .unwrap_or(500);
    let began = Instant::now();
    let (mut one, mut quick, mut two) = (Tally::default(), Tally::default(), Tally::default());
    let mut gaps: Vec<f64> = Vec::new();
    for seed in 0..count {
        let table = instances::table(seed);
        for host in 0..table.hosts.len() {
            restarts(&table, Effort::THOROUGH, &mut one, &[host]);
            restarts(&table, Effort::QUICK, &mut quick, &[host]);
            for other in host + 1..table.hosts.len() {
                restarts(&table, Effort::THOROUGH, &mut two, &[host, other]);
            }
        }
        let measure = Measure {
            cpu: VCPUS,
            memory: MEMORY,
            must_fit: CPU,
        };
        for moves in 1..=2 {
            let ours = balance(&table, measure, moves);
            let optimum = exact::balance(&table, measure, moves);
            let before = imbalance(&table, measure);
            // Of what can be gained at all.
            gaps.push((ours.after - optimum) / optimum.max(before * 1e-6).max(1e-12));
        }
    }
    print("one host, thorough", &one);
    print("one host, as pages ask", &quick);
    print("two hosts, thorough", &two);
    gaps.sort_by(f64::total_cmp);
    let within = gaps.iter().filter(|g| **g <= 0.05).count();
    println!(
        "balance with 1 and 2 moves against every sequence: within 5 % of the optimum in {within} of {}; worst {:.2} %",
        gaps.len(),
        100.0 * gaps.last().copied().unwrap_or(0.0)
    );
    println!(
        "seeds 0 to {}; {:.0} s in all",
        count.saturating_sub(1),
        began.elapsed().as_secs_f64()
    );
}
