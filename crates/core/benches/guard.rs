//! How many steps of the guard's simulation go in a second, and whether a million of them break anything: hosts with clocks
//! of their own, loss, partitions, takeovers. A step is 250 ms of virtual time.
#![expect(
    clippy::print_stdout,
    clippy::panic,
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a benchmark reads the clock, prints and fails loudly"
)]
#![allow(dead_code, reason = "the tests use more of it")]

#[path = "../tests/all/guarding/sim/mod.rs"]
mod sim;

use sim::{Mutation, Sim};
use std::time::Instant;

const STEPS: u64 = 1_000_000;

fn main() {
    let began = Instant::now();
    let (mut steps, mut seeds, mut restarted, mut switched, mut given_up) = (0, 0, 0, 0, 0);
    while steps < STEPS {
        // Other seeds than the tests have.
        let seed = 1_000_000 + seeds;
        let mut sim = Sim::new(seed, Mutation::None);
        sim.run();
        if !sim.broken.is_empty() {
            panic!("seed {seed}: {:?}\n{}", sim.broken, sim.told());
        }
        steps += sim.steps;
        seeds += 1;
        restarted += sim.restarted;
        switched += sim.switched_off;
        given_up += sim.given_up.len();
    }
    let took = began.elapsed().as_secs_f64();
    println!(
        "{steps} steps of {seeds} seeds in {took:.1} s: {:.0} a second; {restarted} machines restarted, {switched} hosts \
         switched off, {given_up} machines given up after five tries, nothing broken",
        steps as f64 / took
    );
}
