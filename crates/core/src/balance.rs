//! Balance: the few moves that make a cluster's hosts most alike (rules, sections 6 and 11).
//!
//! The imbalance is the standard deviation over hosts of the larger of two shares, CPU and memory, of what each has. Moves
//! are found by beam search: from each of the best states so far every single move that fits is tried, and the best states
//! go on; so two moves that only help together, as a swap does, are found too. Each prefix of the answer can be carried out:
//! a machine goes only where there is room for it just then. O(moves × width × machines × hosts).

use crate::availability::Table;
use std::collections::BTreeSet;

/// Moves that may be tried in all; it sets how many states go on.
const WORK: usize = 1_200_000;

/// Which of a table's dimensions are compared, and which must have room.
#[derive(Debug, Clone, Copy)]
pub struct Measure {
    pub cpu: usize,
    pub memory: usize,
    pub must_fit: usize,
}

#[derive(Debug, Clone, PartialEq)]
pub struct Balance {
    pub before: f64,
    pub after: f64,
    /// (machine, from, to), in the order in which they can be carried out.
    pub moves: Vec<(usize, usize, usize)>,
}

#[derive(Clone)]
struct State {
    at: Vec<Option<usize>>,
    /// Of each host: used in every dimension.
    used: Vec<crate::packing::Amount>,
    share: Vec<f64>,
    sum: f64,
    squares: f64,
    moves: Vec<(usize, usize, usize)>,
}

/// The standard deviation of the hosts' shares.
pub fn imbalance(table: &Table, measure: Measure) -> f64 {
    State::new(table, measure).imbalance()
}

/// Up to `moves` moves that lower the imbalance most; fewer where more don't help.
pub fn balance(table: &Table, measure: Measure, moves: usize) -> Balance {
    let start = State::new(table, measure);
    let before = start.imbalance();
    let tries = (table.machines.len() * table.hosts.len()).max(1) * moves.max(1);
    let width = (WORK / tries).clamp(8, 2000);
    let mut best = start.clone();
    let mut beam = vec![start];
    for _ in 0..moves {
        beam = step(table, measure, &beam, width);
        match beam.first() {
            None => break,
            Some(first) if first.imbalance() < best.imbalance() - 1e-12 => best = first.clone(),
            Some(_) => {}
        }
    }
    Balance {
        before,
        after: best.imbalance(),
        moves: best.moves,
    }
}

/// The best states one move further, the best first.
fn step(table: &Table, measure: Measure, beam: &[State], width: usize) -> Vec<State> {
    let mut found: Vec<(f64, usize, usize, usize)> = Vec::new();
    for (n, state) in beam.iter().enumerate() {
        for machine in 0..table.machines.len() {
            let Some(from) = state.at[machine] else {
                continue;
            };
            if state.moves.iter().any(|m| m.0 == machine) {
                continue;
            }
            for to in 0..table.hosts.len() {
                if to != from && state.takes(table, measure, machine, to) {
                    found.push((
                        state.after(table, measure, machine, from, to),
                        n,
                        machine,
                        to,
                    ));
                }
            }
        }
        if found.len() > 8 * width {
            trim(&mut found, 4 * width);
        }
    }
    trim(&mut found, 4 * width);
    let mut seen = BTreeSet::new();
    let mut next = Vec::new();
    for (_, n, machine, to) in found {
        let mut state = beam[n].clone();
        state.go(table, measure, machine, to);
        let mut key: Vec<_> = state.moves.iter().map(|m| (m.0, m.2)).collect();
        key.sort_unstable();
        if seen.insert(key) {
            next.push(state);
        }
        if next.len() == width {
            break;
        }
    }
    next
}

fn trim(found: &mut Vec<(f64, usize, usize, usize)>, most: usize) {
    let order = |a: &(f64, usize, usize, usize), b: &(f64, usize, usize, usize)| {
        a.0.total_cmp(&b.0)
            .then((a.1, a.2, a.3).cmp(&(b.1, b.2, b.3)))
    };
    if found.len() > most {
        found.select_nth_unstable_by(most, order);
        found.truncate(most);
    }
    found.sort_unstable_by(order);
}

impl State {
    fn new(table: &Table, measure: Measure) -> State {
        let mut used = vec![crate::packing::Amount::default(); table.hosts.len()];
        for machine in &table.machines {
            if let Some(at) = machine.at {
                used[at]
                    .iter_mut()
                    .zip(machine.needs)
                    .for_each(|(u, n)| *u += n);
            }
        }
        let mut state = State {
            at: table.machines.iter().map(|m| m.at).collect(),
            share: (0..used.len())
                .map(|h| share(table, measure, h, &used[h]))
                .collect(),
            used,
            sum: 0.0,
            squares: 0.0,
            moves: vec![],
        };
        state.sum = state.share.iter().sum();
        state.squares = state.share.iter().map(|s| s * s).sum();
        state
    }
    fn imbalance(&self) -> f64 {
        spread(self.sum, self.squares, self.share.len())
    }
    fn takes(&self, table: &Table, measure: Measure, machine: usize, to: usize) -> bool {
        let (m, host) = (&table.machines[machine], &table.hosts[to]);
        let room = (0..measure.must_fit).all(|d| self.used[to][d] + m.needs[d] <= host.room[d]);
        let may = host.closed.is_none() && m.only.as_ref().is_none_or(|only| only[to]);
        let apart = || {
            let there = table
                .machines
                .iter()
                .zip(&self.at)
                .filter(|(_, at)| **at == Some(to));
            m.apart.is_empty()
                || there
                    .into_iter()
                    .all(|(o, _)| o.apart.iter().all(|g| !m.apart.contains(g)))
        };
        // Who shares a host with others stays with them.
        room && may && m.together.is_none() && apart()
    }
    fn after(
        &self,
        table: &Table,
        measure: Measure,
        machine: usize,
        from: usize,
        to: usize,
    ) -> f64 {
        let needs = table.machines[machine].needs;
        let (mut less, mut more) = (self.used[from], self.used[to]);
        less.iter_mut().zip(needs).for_each(|(u, n)| *u -= n);
        more.iter_mut().zip(needs).for_each(|(u, n)| *u += n);
        let (a, b) = (
            share(table, measure, from, &less),
            share(table, measure, to, &more),
        );
        let (was_a, was_b) = (self.share[from], self.share[to]);
        let sum = self.sum - was_a - was_b + a + b;
        let squares = self.squares - was_a * was_a - was_b * was_b + a * a + b * b;
        spread(sum, squares, self.share.len())
    }
    fn go(&mut self, table: &Table, measure: Measure, machine: usize, to: usize) {
        let Some(from) = self.at[machine] else { return };
        let needs = table.machines[machine].needs;
        self.used[from]
            .iter_mut()
            .zip(needs)
            .for_each(|(u, n)| *u -= n);
        self.used[to]
            .iter_mut()
            .zip(needs)
            .for_each(|(u, n)| *u += n);
        self.at[machine] = Some(to);
        for host in [from, to] {
            self.share[host] = share(table, measure, host, &self.used[host]);
        }
        self.sum = self.share.iter().sum();
        self.squares = self.share.iter().map(|s| s * s).sum();
        self.moves.push((machine, from, to));
    }
}

fn share(table: &Table, measure: Measure, host: usize, used: &crate::packing::Amount) -> f64 {
    let room = &table.hosts[host].room;
    let of = |d: usize| used[d] as f64 / (room[d] as f64).max(1.0);
    of(measure.cpu).max(of(measure.memory))
}

fn spread(sum: f64, squares: f64, hosts: usize) -> f64 {
    let n = (hosts as f64).max(1.0);
    let mean = sum / n;
    (squares / n - mean * mean).max(0.0).sqrt()
}
