//! Exact methods, by brute force: they share no code with the core's.

use std::collections::BTreeSet;
use zastrugi_core::{
    availability::{MEMORY, Table, VCPUS},
    balance::Measure,
};

pub(crate) struct Best {
    /// Machines that restart.
    pub(crate) placed: usize,
    /// Their always-kept memory in the best placement: the most in tier 1, then in tier 2, and so on; among as many the most
    /// memory.
    pub(crate) kept: u64,
}

/// Over all subsets of the machines that must restart: which can be on the hosts so far?
pub(crate) fn best(table: &Table, failed: &[usize]) -> Best {
    let items: Vec<usize> = (0..table.machines.len())
        .filter(|m| table.machines[*m].at.is_some_and(|at| failed.contains(&at)))
        .collect();
    let all = 1usize << items.len();
    let mut reachable = vec![false; all];
    reachable[0] = true;
    for host in (0..table.hosts.len()).filter(|h| !failed.contains(h)) {
        let fits: Vec<bool> = (0..all)
            .map(|mask| fits(table, host, &items, mask))
            .collect();
        let mut next = vec![false; all];
        for before in 0..all {
            if !reachable[before] {
                continue;
            }
            // Every set of those that are left.
            let rest = (all - 1) & !before;
            let mut sub = rest;
            loop {
                if fits[sub] {
                    next[before | sub] = true;
                }
                if sub == 0 {
                    break;
                }
                sub = (sub - 1) & rest;
            }
        }
        reachable = next;
    }
    let value = |mask: usize| {
        let mut tiers = [(0u64, 0u64); 8];
        for m in items
            .iter()
            .enumerate()
            .filter(|(i, _)| mask >> i & 1 == 1)
            .map(|(_, m)| &table.machines[*m])
        {
            let tier = &mut tiers[usize::from(m.tier).min(7)];
            tier.0 += 1;
            tier.1 += m.kept;
        }
        tiers
    };
    let best = (0..all)
        .filter(|m| reachable[*m])
        .max_by_key(|m| value(*m))
        .unwrap_or(0);
    Best {
        placed: best.count_ones() as usize,
        kept: value(best).iter().map(|t| t.1).sum(),
    }
}

fn fits(table: &Table, host: usize, items: &[usize], mask: usize) -> bool {
    let coming: Vec<usize> = items
        .iter()
        .enumerate()
        .filter(|(i, _)| mask >> i & 1 == 1)
        .map(|(_, m)| *m)
        .collect();
    if coming.is_empty() {
        return true;
    }
    let there: Vec<usize> = table.on(host).collect();
    let room = [MEMORY, VCPUS].iter().all(|d| {
        let used: u64 = there
            .iter()
            .chain(&coming)
            .map(|m| table.machines[*m].needs[*d])
            .sum();
        used <= table.hosts[host].room[*d]
    });
    let before: BTreeSet<u32> = there
        .iter()
        .flat_map(|m| table.machines[*m].apart.clone())
        .collect();
    let mut groups = before;
    room && coming
        .iter()
        .all(|m| table.machines[*m].apart.iter().all(|g| groups.insert(*g)))
}

/// The least imbalance over every sequence of up to `moves` moves in which each machine moves once, and only where there is
/// room just then.
pub(crate) fn balance(table: &Table, measure: Measure, moves: usize) -> f64 {
    let mut at: Vec<usize> = table.machines.iter().map(|m| m.at.unwrap_or(0)).collect();
    let mut used = vec![[0u64; 2]; table.hosts.len()];
    for (m, host) in at.iter().enumerate() {
        add(table, &mut used, m, *host);
    }
    let mut best = spread(table, measure, &used);
    go(
        table,
        measure,
        moves,
        &mut at,
        &mut used,
        &mut Vec::new(),
        &mut best,
    );
    best
}

fn add(table: &Table, used: &mut [[u64; 2]], machine: usize, host: usize) {
    used[host][0] += table.machines[machine].needs[VCPUS];
    used[host][1] += table.machines[machine].needs[MEMORY];
}
fn less(table: &Table, used: &mut [[u64; 2]], machine: usize, host: usize) {
    used[host][0] -= table.machines[machine].needs[VCPUS];
    used[host][1] -= table.machines[machine].needs[MEMORY];
}

fn go(
    table: &Table,
    measure: Measure,
    moves: usize,
    at: &mut Vec<usize>,
    used: &mut Vec<[u64; 2]>,
    moved: &mut Vec<usize>,
    best: &mut f64,
) {
    if moves == 0 {
        return;
    }
    for machine in 0..at.len() {
        if moved.contains(&machine) {
            continue;
        }
        for to in 0..table.hosts.len() {
            let from = at[machine];
            let (row, room) = (&table.machines[machine], &table.hosts[to].room);
            let fits = used[to][0] + row.needs[VCPUS] <= room[VCPUS]
                && used[to][1] + row.needs[MEMORY] <= room[MEMORY];
            let clash = (0..at.len()).any(|o| {
                o != machine
                    && at[o] == to
                    && table.machines[o]
                        .apart
                        .iter()
                        .any(|g| row.apart.contains(g))
            });
            if to == from || !fits || clash {
                continue;
            }
            less(table, used, machine, from);
            add(table, used, machine, to);
            at[machine] = to;
            moved.push(machine);
            *best = best.min(spread(table, measure, used));
            go(table, measure, moves - 1, at, used, moved, best);
            moved.pop();
            at[machine] = from;
            less(table, used, machine, to);
            add(table, used, machine, from);
        }
    }
}

fn spread(table: &Table, measure: Measure, used: &[[u64; 2]]) -> f64 {
    let shares: Vec<f64> = used
        .iter()
        .zip(&table.hosts)
        .map(|(u, h)| {
            let cpu = u[0] as f64 / h.room[measure.cpu] as f64;
            cpu.max(u[1] as f64 / h.room[measure.memory] as f64)
        })
        .collect();
    let mean = shares.iter().sum::<f64>() / shares.len() as f64;
    (shares.iter().map(|s| (s - mean) * (s - mean)).sum::<f64>() / shares.len() as f64).sqrt()
}
