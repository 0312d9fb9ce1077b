//! How long the consequences of a machine's creation take at 1,000 hosts and 20,000 machines.
#![expect(
    clippy::print_stdout,
    clippy::disallowed_methods,
    reason = "a benchmark reads the clock and prints"
)]

#[path = "shared/mod.rs"]
mod shared;

use shared::measure;
use zastrugi_core::rooms::machines;
use zastrugi_core::testkit::Folding;
use zastrugi_core::{
    estate::Estate,
    ids::{ClusterId, HostId, MachineId},
    rooms::machines::CreateMachines,
    rooms::{Event, Proposal, assess},
    testkit::{large, machines, read},
};

fn main() {
    let small = read(&large(20_000, 8));
    let ask = |count| {
        Proposal::Machines(machines::Ask::Create(Box::new(CreateMachines {
            pledge: None,
            vcpus: 4,
            ..machines("new-{001}", count, Some(ClusterId(907)), 16)
        })))
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
        fork.absorb(&Event::Machines(machines::Event::Wanted {
            machine,
            wanted: zastrugi_core::estate::Wanted::On,
            host: Some(HostId(n % 1000 + 1)),
        }));
        std::hint::black_box(fork);
    });
    let facts: Vec<_> = estate.facts().collect();
    measure("build the estate from 21,000 facts in memory", 20, || {
        std::hint::black_box(Estate::from_facts(estate.revision, facts.iter().cloned()));
    });
}
