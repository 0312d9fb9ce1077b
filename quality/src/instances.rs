//! Seeded instances.

use rand::{Rng, SeedableRng, rngs::StdRng, seq::SliceRandom};
use zastrugi_core::availability::{HostRow, MEMORY, MachineRow, Table, VCPUS, WELL};

const GIB: u64 = 1 << 30;

/// 4–8 hosts, 10–40 machines, 60–105 % full in memory, 0–30 % of the machines under keep-apart rules. Machines lie where a
/// shuffled first fit puts them; those that fit nowhere lie on the emptiest host, which is then over-full.
pub(crate) fn table(seed: u64) -> Table {
    let mut chance = StdRng::seed_from_u64(seed);
    let hosts = chance.random_range(4..=8);
    let machines: usize = chance.random_range(10..=40);
    let full = chance.random_range(0.60..=1.05);
    let ruled = chance.random_range(0.0..=0.3);
    let mut needs: Vec<(u64, u64)> = (0..machines)
        .map(|_| {
            let memory = [2, 4, 8, 12, 16, 24, 32, 48, 64][chance.random_range(0..9)];
            (
                memory + chance.random_range(0..3),
                chance.random_range(1..=8),
            )
        })
        .collect();
    needs.shuffle(&mut chance);
    let total: u64 = needs.iter().map(|n| n.0).sum();
    let share = total as f64 / full / hosts as f64;
    let mut table = Table::default();
    for n in 0..hosts {
        let memory = share * chance.random_range(0.8..1.2);
        let mut room = [u64::MAX / 1024; WELL];
        room[MEMORY] = zastrugi_core::units::round(memory) * GIB;
        room[VCPUS] = chance.random_range(24..=48) * 1000;
        table.hosts.push(HostRow {
            name: format!("h{n}"),
            room,
            fencing: Some(zastrugi_core::estate::Means::Controller.takes()),
            ..HostRow::default()
        });
    }
    for (n, (memory, cpu)) in needs.into_iter().enumerate() {
        let group = chance.random_bool(ruled).then(|| chance.random_range(0..3));
        let mut need = [0; WELL];
        (need[MEMORY], need[VCPUS]) = (memory * GIB, cpu * 1000);
        let row = MachineRow {
            name: format!("m{n}"),
            kept: need[MEMORY],
            needs: need,
            tier: chance.random_range(1..=4),
            apart: group.into_iter().collect(),
            ..MachineRow::default()
        };
        let at = home(&table, &row, &mut chance);
        table.machines.push(MachineRow {
            at: Some(at),
            ..row
        });
    }
    table
}

fn free(table: &Table, host: usize, dimension: usize) -> u64 {
    let used: u64 = table
        .on(host)
        .map(|m| table.machines[m].needs[dimension])
        .sum();
    table.hosts[host].room[dimension].saturating_sub(used)
}

fn home(table: &Table, row: &MachineRow, chance: &mut StdRng) -> usize {
    let mut hosts: Vec<usize> = (0..table.hosts.len()).collect();
    hosts.shuffle(chance);
    let apart = |h: &usize| {
        !table.on(*h).any(|m| {
            table.machines[m]
                .apart
                .iter()
                .any(|g| row.apart.contains(g))
        })
    };
    let fits = |h: &usize| {
        [MEMORY, VCPUS]
            .iter()
            .all(|d| row.needs[*d] <= free(table, *h, *d))
    };
    let first = hosts.iter().copied().find(|h| fits(h) && apart(h));
    let emptiest = || {
        hosts
            .iter()
            .copied()
            .max_by_key(|h| free(table, *h, MEMORY))
    };
    first.or_else(emptiest).unwrap_or(0)
}
