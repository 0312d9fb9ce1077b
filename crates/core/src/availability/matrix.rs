//! The failure matrix: a row for every fault domain, and how many host failures the cluster survives.

use super::{
    fail::{Effort, Failure, Left, Verdict, fail},
    recovery,
    table::{Restart, Table},
    words::dimension,
};
use crate::{moment::Span, packing::Amount};
use std::collections::{BTreeMap, BTreeSet};

/// Pairs of all hosts up to here; beyond, of the most loaded ones.
const PAIRED: usize = 64;

/// Something that fails as one.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum Domain {
    Host(String),
    /// A kind such as `rack`, and its name.
    Of(String, String),
    Volume(String),
}

impl Domain {
    pub fn words(&self) -> String {
        match self {
            Domain::Host(name) => name.clone(),
            Domain::Of(kind, name) => format!("{kind} {name}"),
            Domain::Volume(name) => format!("volume {name}"),
        }
    }
}

/// One row: what fails, and what comes of it.
#[derive(Debug, Clone, PartialEq)]
pub struct Case {
    pub domain: Domain,
    pub failure: Failure,
    /// Hosts without a controller: somebody must confirm that they are off before anything restarts.
    pub waits: Vec<usize>,
    /// Until the last machine that restarts has booted.
    pub time: Span,
    /// It is no thought: it has failed already.
    pub happened: bool,
}

impl Case {
    pub fn passes(&self) -> bool {
        self.failure.verdict == Verdict::All
    }
}

/// Two hosts at once.
#[derive(Debug, Clone, PartialEq)]
pub struct Pairs {
    /// (first, second, verdict), first < second.
    pub all: Vec<(usize, usize, Verdict)>,
    /// Whether some pairs were left out because there are too many hosts, and the aggregate bound speaks for them.
    pub bounded: Option<bool>,
    /// The first pair that is not survived, with who is left and why.
    pub counterexample: Option<Box<Failure>>,
}

impl Pairs {
    pub fn pass(&self) -> bool {
        self.all.iter().all(|p| p.2 == Verdict::All) && self.bounded != Some(false)
    }

    /// `; any two`, `; two only if eider-03 is not among them`, or nothing.
    pub(super) fn words(&self, table: &Table) -> String {
        if self.pass() {
            return match self.bounded {
                None => "; any two".into(),
                Some(_) => format!(
                    "; any two of the {PAIRED} most loaded, the others by the aggregate bound"
                ),
            };
        }
        let mut bad: BTreeMap<usize, usize> = BTreeMap::new();
        let failing: Vec<_> = self.all.iter().filter(|p| p.2 != Verdict::All).collect();
        for (a, b, _) in &failing {
            *bad.entry(*a).or_default() += 1;
            *bad.entry(*b).or_default() += 1;
        }
        // Hosts that cover every failing pair, the one with most first.
        let mut left: Vec<_> = failing.clone();
        let mut cover = BTreeSet::new();
        while let Some(worst) = bad
            .keys()
            .max_by_key(|h| {
                (
                    left.iter().filter(|p| p.0 == **h || p.1 == **h).count(),
                    std::cmp::Reverse(**h),
                )
            })
            .copied()
            && !left.is_empty()
        {
            cover.insert(worst);
            left.retain(|p| p.0 != worst && p.1 != worst);
        }
        let names: Vec<&str> = cover
            .iter()
            .map(|h| table.hosts[*h].name.as_str())
            .collect();
        if failing.len() == self.all.len() {
            return "; not two".into();
        }
        match names.as_slice() {
            [one] => return format!("; two only if {one} is not among them"),
            [one, other] => {
                return format!("; two only if neither {one} nor {other} is among them");
            }
            _ => {}
        }
        let (of, all) = (failing.len(), self.all.len());
        format!("; two in {} of {all} pairs", all - of)
    }
}

/// All rows, and the pairs where one failure is survived.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Matrix {
    pub rows: Vec<Case>,
    pub pairs: Option<Pairs>,
    /// The largest k such that every set of k hosts passes; computed up to 2.
    pub headroom: u32,
}

impl Matrix {
    /// Hosts that may fail next.
    pub fn hosts(&self) -> impl Iterator<Item = &Case> {
        self.rows
            .iter()
            .filter(|r| matches!(r.domain, Domain::Host(_)) && !r.happened)
    }
    /// Hosts that have failed: where their machines would go.
    pub fn happened(&self) -> impl Iterator<Item = &Case> {
        self.rows.iter().filter(|r| r.happened)
    }
    /// The row that comes nearest to failing, or fails.
    pub fn tightest(&self) -> Option<&Case> {
        let rank = |r: &&Case| {
            (
                r.passes(),
                r.failure.not_restarted.len(),
                r.failure.tightest.1,
            )
        };
        let compare = |a: &&Case, b: &&Case| {
            let (a, b) = (rank(a), rank(b));
            b.0.cmp(&a.0).then(a.1.cmp(&b.1)).then(a.2.total_cmp(&b.2))
        };
        // Of equal ones the first.
        self.hosts().reduce(|best, row| match compare(&row, &best) {
            std::cmp::Ordering::Greater => row,
            _ => best,
        })
    }
    /// The dimension that limits the cluster.
    pub fn limit(&self) -> usize {
        self.tightest()
            .map_or(super::table::MEMORY, |r| r.failure.tightest.0)
    }
    pub fn limit_words(&self) -> &'static str {
        dimension(self.limit())
    }
}

/// Every fault domain fails in turn; pairs of hosts come on top with [`super::Survival::with_pairs`].
pub fn matrix(table: &Table, volumes: &[(String, Vec<usize>)], effort: Effort) -> Matrix {
    let mut rows: Vec<Case> = domains(table)
        .into_iter()
        .map(|(domain, hosts)| row(table, domain, &hosts, effort))
        .collect();
    rows.extend(table.gone().map(|h| Case {
        happened: true,
        ..row(
            table,
            Domain::Host(table.hosts[h].name.clone()),
            &[h],
            effort,
        )
    }));
    let lost = volumes.iter();
    rows.extend(lost.map(|(name, machines)| volume(table, name, machines)));
    let mut matrix = Matrix {
        rows,
        ..Matrix::default()
    };
    let survives = open(table).len() >= 2 && matrix.hosts().all(Case::passes);
    matrix.headroom = u32::from(survives);
    matrix
}

fn open(table: &Table) -> Vec<usize> {
    (0..table.hosts.len())
        .filter(|h| table.hosts[*h].closed.is_none())
        .collect()
}

/// Hosts, then racks and the like with at least one host; those that are all of the cluster's hosts too.
fn domains(table: &Table) -> Vec<(Domain, Vec<usize>)> {
    let mut all: Vec<_> = open(table)
        .into_iter()
        .map(|h| (Domain::Host(table.hosts[h].name.clone()), vec![h]))
        .collect();
    let mut groups: BTreeMap<(&str, &str), Vec<usize>> = BTreeMap::new();
    for (i, host) in table
        .hosts
        .iter()
        .enumerate()
        .filter(|(_, h)| h.closed.is_none())
    {
        for (kind, name) in &host.domains {
            groups.entry((kind, name)).or_default().push(i);
        }
    }
    all.extend(
        groups
            .into_iter()
            .map(|((kind, name), hosts)| (Domain::Of(kind.into(), name.into()), hosts)),
    );
    all
}

fn row(table: &Table, domain: Domain, hosts: &[usize], effort: Effort) -> Case {
    let failure = fail(table, hosts, effort);
    let waits: Vec<usize> = hosts
        .iter()
        .copied()
        .filter(|h| table.hosts[*h].fencing.is_none())
        .collect();
    Case {
        domain,
        time: recovery::time(table, hosts, &failure.restarted),
        happened: false,
        waits,
        failure,
    }
}

/// Without a volume its machines have no disks: nobody restarts them until it is back.
fn volume(table: &Table, name: &str, machines: &[usize]) -> Case {
    let lost = machines
        .iter()
        .filter(|m| {
            table.machines[**m].at.is_some() && table.machines[**m].restart != Restart::Arriving
        })
        .map(|m| Left {
            machine: *m,
            why: format!("its disks are on {name}"),
        })
        .collect();
    Case {
        domain: Domain::Volume(name.to_owned()),
        failure: Failure {
            hosts: vec![],
            verdict: Verdict::Some,
            restarted: vec![],
            not_restarted: vec![],
            lost,
            well: Ok(()),
            proof: "disks are needed to run".into(),
            tightest: (super::table::MEMORY, 0.0),
        },
        waits: vec![],
        happened: false,
        time: Span(0),
    }
}

/// Every pair of hosts, up to 64 of them; beyond that pairs of the most loaded, and a bound for the rest.
pub fn pairs(table: &Table, effort: Effort) -> Pairs {
    let mut hosts = open(table);
    let bounded = (hosts.len() > PAIRED).then(|| {
        let load = |h: &usize| {
            table
                .on(*h)
                .map(|m| table.machines[m].needs[super::table::MEMORY])
                .sum::<u64>()
        };
        hosts.sort_by_key(|h| (std::cmp::Reverse(load(h)), *h));
        let bound = bound(table, &hosts);
        hosts.truncate(PAIRED);
        hosts.sort_unstable();
        bound
    });
    let mut all = Vec::new();
    let mut counterexample = None;
    for (i, a) in hosts.iter().enumerate() {
        for b in &hosts[i + 1..] {
            let failure = fail(table, &[*a, *b], effort);
            all.push((*a, *b, failure.verdict));
            if failure.verdict != Verdict::All && counterexample.is_none() {
                counterexample = Some(Box::new(failure));
            }
        }
    }
    Pairs {
        all,
        bounded,
        counterexample,
    }
}

/// Whether all that the two fullest hosts hold is no more than what is free on the rest without the two emptiest.
fn bound(table: &Table, by_load: &[usize]) -> bool {
    let free = table.free(&|_| false);
    // What has failed already wants its place too.
    let fails = by_load.iter().take(2).copied().chain(table.gone());
    let held: Amount = fails.fold([0; 5], |sum, h| {
        let on = table.on(h).map(|m| table.machines[m].needs);
        on.fold(sum, |mut sum, n| {
            sum.iter_mut().zip(n).for_each(|(s, n)| *s += n);
            sum
        })
    });
    (0..super::table::STARTS).all(|d| {
        let mut rooms: Vec<u64> = by_load.iter().map(|h| free[*h][d]).collect();
        rooms.sort_unstable();
        let left = rooms.len().saturating_sub(2);
        held[d] <= rooms[..left].iter().sum()
    })
}

/// The largest k up to `most` such that every set of k hosts passes, with every failure that was looked at.
pub fn headroom(table: &Table, most: usize, effort: Effort) -> (usize, Vec<Failure>) {
    let hosts = open(table);
    let mut failures = Vec::new();
    let mut survived = 0;
    for k in 1..=most.min(hosts.len()) {
        let all: Vec<Failure> = sets(&hosts, k)
            .into_iter()
            .map(|set| fail(table, &set, effort))
            .collect();
        if survived == k - 1 && k < hosts.len() && all.iter().all(|f| f.verdict == Verdict::All) {
            survived = k;
        }
        failures.extend(all);
    }
    (survived, failures)
}

/// All sets of `k` of these, in order.
fn sets(of: &[usize], k: usize) -> Vec<Vec<usize>> {
    if k == 0 {
        return vec![vec![]];
    }
    let mut all = Vec::new();
    for (i, first) in of.iter().enumerate() {
        for mut rest in sets(&of[i + 1..], k - 1) {
            rest.insert(0, *first);
            all.push(rest);
        }
    }
    all
}
