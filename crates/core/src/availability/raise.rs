//! What would let the cluster survive one more host: the smallest of a few changes that are easy to make.

use super::{
    fail::{Effort, Verdict, fail},
    table::{MEMORY, Restart, SIZES, Table},
};

/// Packings that may be tried.
const WORK: u32 = 3_000;

/// A change, from the smallest to the largest.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Raise {
    /// One machine goes to another host.
    Move { machine: usize, to: usize },
    /// A keep-apart group is no longer required.
    Apart { group: u32 },
    /// A keep-together group likewise.
    Together { group: u32 },
    /// One machine has less memory: so much, in bytes.
    Shrink { machine: usize, to: u64 },
    /// One machine is stopped.
    Stop { machine: usize },
    /// So many hundredths more memory on each host.
    Memory { percent: u32 },
    /// None of these.
    None,
    /// None of those that were tried within the work limit.
    Unknown,
}

/// Whether every set of `k` hosts passes; the sets that failed before are tried first.
struct Test<'a> {
    k: usize,
    first: &'a [Vec<usize>],
    work: u32,
    effort: Effort,
}

impl Test<'_> {
    fn passes(&mut self, table: &Table) -> bool {
        let open: Vec<usize> = (0..table.hosts.len())
            .filter(|h| table.hosts[*h].closed.is_none())
            .collect();
        let rest = match self.k {
            1 => open.iter().map(|h| vec![*h]).collect(),
            _ => pairs(&open),
        };
        for set in self
            .first
            .iter()
            .chain(rest.iter().filter(|s| !self.first.contains(s)))
        {
            if self.work == 0 {
                return false;
            }
            self.work -= 1;
            if fail(table, set, self.effort).verdict != Verdict::All {
                return false;
            }
        }
        true
    }
}

fn pairs(open: &[usize]) -> Vec<Vec<usize>> {
    let pair = |(i, a): (usize, &usize)| {
        open[i + 1..]
            .iter()
            .map(|b| vec![*a, *b])
            .collect::<Vec<_>>()
    };
    open.iter().enumerate().flat_map(pair).collect()
}

/// The smallest change after which every set of `headroom + 1` hosts passes. `failing` are the sets that don't now.
pub fn raise(table: &Table, headroom: u32, failing: &[Vec<usize>], effort: Effort) -> Raise {
    let mut test = Test {
        k: usize::try_from(headroom).unwrap_or(1) + 1,
        first: failing,
        work: WORK,
        effort: Effort(effort.0 / 10),
    };
    if test.k > 2 || table.hosts.len() <= test.k {
        return Raise::None;
    }
    // Each kind has its share of the work, so that the last is tried too.
    test.work = WORK * 5 / 10;
    let (moved, mut all_tried) = single_move(table, &mut test);
    if let Some(found) = moved {
        return found;
    }
    test.work = WORK * 2 / 10;
    if let Some(found) = dropped(table, &mut test) {
        return found;
    }
    all_tried &= test.work > 0;
    for less in [shrunk, stopped] {
        test.work = WORK / 10;
        if let Some(found) = less(table, &mut test) {
            return found;
        }
        all_tried &= test.work > 0;
    }
    test.work = WORK / 10;
    for percent in [25, 50, 100] {
        if test.passes(&more(table, percent)) {
            return Raise::Memory { percent };
        }
    }
    all_tried &= test.work > 0;
    if all_tried {
        Raise::None
    } else {
        Raise::Unknown
    }
}

/// Machines that can be told anything: those of a host that is gone can't, and what is on its way is counted where it was.
fn tellable(table: &Table) -> Vec<usize> {
    let told = |m: &usize| {
        let row = &table.machines[*m];
        row.at.is_some_and(|at| !table.hosts[at].gone) && row.restart != Restart::Arriving
    };
    (0..table.machines.len()).filter(told).collect()
}

/// Every machine to every host that has room for it.
fn single_move(table: &Table, test: &mut Test<'_>) -> (Option<Raise>, bool) {
    let free = table.free(&|_| false);
    let groups = table.there();
    // The smallest first: it is the least to do.
    let mut machines = tellable(table);
    machines.retain(|m| table.machines[*m].together.is_none());
    machines.sort_by_key(|m| (table.machines[*m].needs[MEMORY], *m));
    for machine in machines {
        let row = &table.machines[machine];
        for (to, host) in table.hosts.iter().enumerate() {
            let may = row.only.as_ref().is_none_or(|only| only[to])
                && row.apart.iter().all(|g| !groups[to].contains(g));
            let fits = (0..super::table::STARTS).all(|d| row.needs[d] <= free[to][d]);
            if Some(to) == row.at || host.closed.is_some() || !may || !fits {
                continue;
            }
            if test.work == 0 {
                return (None, false);
            }
            let mut then = table.clone();
            then.machines[machine].at = Some(to);
            if test.passes(&then) {
                return (Some(Raise::Move { machine, to }), true);
            }
        }
    }
    (None, true)
}

/// Memory sizes are whole multiples of this.
const GRAIN: u64 = 256 << 20;

/// One machine with three quarters or half of its memory, what is freed the least first. What it takes besides is left as it
/// is, which only takes room.
fn shrunk(table: &Table, test: &mut Test<'_>) -> Option<Raise> {
    let mut tries: Vec<(u64, usize, u64)> = Vec::new();
    for machine in tellable(table) {
        let row = &table.machines[machine];
        let size = row.needs[SIZES];
        for to in [size / 4 * 3, size / 2].map(|to| to / GRAIN * GRAIN) {
            let freed = row.kept.saturating_sub(to);
            if to >= GRAIN && freed > 0 {
                tries.push((freed, machine, to));
            }
        }
    }
    tries.sort_unstable();
    tries.into_iter().find_map(|(freed, machine, to)| {
        let mut then = table.clone();
        let row = &mut then.machines[machine];
        row.needs[MEMORY] = row.needs[MEMORY].saturating_sub(freed);
        row.needs[SIZES] = to;
        row.kept = row.kept.saturating_sub(freed);
        test.passes(&then).then_some(Raise::Shrink { machine, to })
    })
}

/// One machine less, of those that matter least the smallest first.
fn stopped(table: &Table, test: &mut Test<'_>) -> Option<Raise> {
    let mut machines = tellable(table);
    machines.sort_by_key(|m| {
        let row = &table.machines[*m];
        (std::cmp::Reverse(row.tier), row.needs[MEMORY], *m)
    });
    machines.into_iter().find_map(|machine| {
        let mut then = table.clone();
        then.machines[machine].at = None;
        test.passes(&then).then_some(Raise::Stop { machine })
    })
}

fn dropped(table: &Table, test: &mut Test<'_>) -> Option<Raise> {
    let mut apart: Vec<u32> = table
        .machines
        .iter()
        .flat_map(|m| m.apart.clone())
        .collect();
    apart.sort_unstable();
    apart.dedup();
    for group in apart {
        let mut then = table.clone();
        then.machines
            .iter_mut()
            .for_each(|m| m.apart.retain(|g| *g != group));
        if test.passes(&then) {
            return Some(Raise::Apart { group });
        }
    }
    let mut together: Vec<u32> = table.machines.iter().filter_map(|m| m.together).collect();
    together.sort_unstable();
    together.dedup();
    for group in together {
        let mut then = table.clone();
        then.machines
            .iter_mut()
            .filter(|m| m.together == Some(group))
            .for_each(|m| m.together = None);
        if test.passes(&then) {
            return Some(Raise::Together { group });
        }
    }
    None
}

fn more(table: &Table, percent: u32) -> Table {
    let mut then = table.clone();
    for host in &mut then.hosts {
        for dimension in [MEMORY, SIZES, super::table::WELL - 1] {
            let room = &mut host.room[dimension];
            *room = room.saturating_add(*room / 100 * u64::from(percent));
        }
    }
    then
}
