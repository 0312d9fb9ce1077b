//! How long the consequences of a machine's creation take at 1,000 hosts and 20,000 machines.
#![expect(
    clippy::print_stdout,
    clippy::disallowed_methods,
    reason = "a benchmark reads the clock and prints"
)]

use std::{fmt::Write, time::Instant};
use zastrugi_core::{
    assess::assess,
    estate::Estate,
    event::Event,
    ids::{ClusterId, HostId, MachineId},
    proposal::{CreateMachines, Proposal},
    testkit::{machines, read},
};

fn large() -> String {
    let mut text = String::new();
    for c in 0..32 {
        let _ = writeln!(text, "cluster c{c}");
        for h in (0..1000).filter(|h| h % 32 == c) {
            let _ = writeln!(text, "host {} 768 cores=64", h + 1);
        }
        for m in (0..20_000).filter(|m| m % 1000 % 32 == c) {
            let _ = writeln!(
                text,
                "machine {} m{m} {} on {} vcpus={} label=app:a{}",
                m + 2001,
                8 + m % 4 * 8,
                m % 1000 + 1,
                2 + m % 3 * 2,
                m % 97
            );
        }
    }
    text
}

fn report(what: &str, mut times: Vec<f64>) {
    times.sort_by(f64::total_cmp);
    println!(
        "{what:<64} median {:>8.3} ms   p95 {:>8.3} ms",
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

fn main() {
    let small = read(&large());
    let ask = |count| {
        Proposal::CreateMachines(CreateMachines {
            vcpus: 4,
            ..machines("new-{001}", count, Some(ClusterId(907)), 16)
        })
    };
    println!(
        "{} hosts, {} machines",
        small.view.estate.hosts.len(),
        small.view.estate.machines.len()
    );
    for count in [1, 100] {
        let ask = ask(count);
        assert!(!assess(&small.view, &small.permits, &ask, small.now).blocked());
        measure(&format!("assess the creation of {count}"), 200, || {
            std::hint::black_box(assess(&small.view, &small.permits, &ask, small.now));
        });
    }
    let estate: &Estate = &small.view.estate;
    let mut n = 0u64;
    measure("fork the estate and absorb one event", 1000, || {
        let mut fork = estate.clone();
        n += 1;
        let machine = MachineId(2001 + n % 20_000);
        fork.absorb(&Event::MachineWanted {
            machine,
            wanted: zastrugi_core::estate::Wanted::On,
            host: Some(HostId(n % 1000 + 1)),
        });
        std::hint::black_box(fork);
    });
    let facts: Vec<_> = estate.facts().collect();
    measure("build the estate from 21,000 facts in memory", 20, || {
        std::hint::black_box(Estate::from_facts(estate.revision, facts.iter().cloned()));
    });
}
