//! The answer for one cluster: its table, its matrix, and what both say.

use super::{
    fail::{Effort, Verdict},
    matrix::{Case, Domain, Matrix, matrix, pairs},
    model::model,
    raise::{Raise, raise},
    table::{MEMORY, SIZES, Table},
};
use crate::{
    estate::{Cluster, ClusterKind},
    view::View,
};

/// What is known of a cluster's headroom.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Survival {
    pub table: Table,
    /// Each volume with the machines that have disks on it.
    pub volumes: Vec<(String, Vec<usize>)>,
    pub matrix: Matrix,
}

impl Survival {
    /// For sheets and overviews; pairs only where the cluster must survive two failures.
    pub fn of(view: &View, cluster: &Cluster) -> Survival {
        let (table, volumes) = model(view, cluster);
        Survival::from(table, volumes, cluster.demand.failures > 1)
    }
    pub fn from(table: Table, volumes: Vec<(String, Vec<usize>)>, with_pairs: bool) -> Survival {
        let answer = Survival {
            matrix: matrix(&table, &volumes, Effort::QUICK),
            table,
            volumes,
        };
        if with_pairs {
            answer.with_pairs()
        } else {
            answer
        }
    }
    /// The same with every pair of hosts.
    pub fn with_pairs(mut self) -> Survival {
        if self.matrix.pairs.is_none() && self.matrix.headroom == 1 && self.open() >= 3 {
            let pairs = pairs(&self.table, Effort::QUICK);
            self.matrix.headroom += u32::from(pairs.pass());
            self.matrix.pairs = Some(pairs);
        }
        self
    }
    fn open(&self) -> usize {
        self.table
            .hosts
            .iter()
            .filter(|h| h.closed.is_none())
            .count()
    }
    pub fn sentence(&self) -> String {
        self.matrix.sentence(&self.table)
    }
    /// Whether it survives what the cluster demands; a stretched one either site too.
    pub fn meets(&self, cluster: &Cluster) -> bool {
        let site = |r: &&Case| matches!(&r.domain, Domain::Of(kind, _) if kind == "site");
        let sites = cluster.kind != ClusterKind::TwoSites
            || self.matrix.rows.iter().filter(site).all(Case::passes);
        let hosts = self.matrix.headroom >= cluster.demand.failures;
        hosts && sites && self.demanded(cluster).all(|r| r.passes())
    }
    /// The rows of the racks and the like of which any one must be survivable; a host that is in none stands for itself.
    fn demanded<'a>(&'a self, cluster: &Cluster) -> impl Iterator<Item = &'a Case> {
        let kinds: Vec<&str> = cluster.demand.kinds().collect();
        let alone = |kind: &str, name: &str| {
            let mut hosts = self.table.hosts.iter();
            hosts.any(|h| h.name == name && !h.domains.contains_key(kind))
        };
        self.matrix
            .rows
            .iter()
            .filter(move |row| match &row.domain {
                Domain::Of(kind, _) => kinds.contains(&kind.as_str()),
                Domain::Host(name) => !row.happened && kinds.iter().any(|kind| alone(kind, name)),
                Domain::Volume(_) => false,
            })
    }
    /// The row that comes nearest to failing, or fails, of all that the cluster must survive.
    pub fn weakest(&self, cluster: &Cluster) -> Option<&Case> {
        let hosts = self.matrix.tightest().filter(|row| !row.passes());
        hosts
            .or_else(|| self.demanded(cluster).find(|row| !row.passes()))
            .or_else(|| self.matrix.tightest())
    }
    /// The sentence with what the cluster must survive besides hosts.
    pub fn sentence_of(&self, cluster: &Cluster) -> String {
        let mut words = self.sentence();
        for kind in cluster.demand.kinds() {
            let of_kind = |r: &&Case| matches!(&r.domain, Domain::Of(k, _) if k == kind);
            let all: Vec<&Case> = self.matrix.rows.iter().filter(of_kind).collect();
            let failing: Vec<String> = all
                .iter()
                .filter(|r| !r.passes())
                .map(|r| r.domain.words())
                .collect();
            let names: Vec<&str> = failing.iter().map(String::as_str).collect();
            words.push_str(&match (all.len(), names.len()) {
                (0, _) => format!("; no host says in which {kind} it is"),
                (_, 0) => format!("; any one {kind}"),
                (1, _) => format!("; not {}", super::words::list(&names)),
                (all, n) if all == n => format!("; no {kind}"),
                _ => format!("; any one {kind} but {}", super::words::list(&names)),
            });
        }
        words
    }
    /// Machines that don't restart, over all that must be survivable.
    pub fn left_over(&self, cluster: &Cluster) -> usize {
        let left = |r: &Case| r.failure.not_restarted.len();
        let rows = self.matrix.hosts().chain(self.demanded(cluster)).map(left);
        let pairs = self
            .matrix
            .pairs
            .iter()
            .flat_map(|p| &p.all)
            .filter(|p| p.2 != Verdict::All);
        rows.sum::<usize>() + pairs.count()
    }
    /// The smallest change that lets it survive one more host.
    pub fn raise(&self) -> Raise {
        let failing: Vec<Vec<usize>> = match (self.matrix.headroom, &self.matrix.pairs) {
            (0, _) => self
                .matrix
                .hosts()
                .filter(|r| !r.passes())
                .map(|r| r.failure.hosts.clone())
                .collect(),
            (_, Some(pairs)) => {
                let bad = pairs.all.iter().filter(|p| p.2 != Verdict::All);
                bad.map(|(a, b, _)| vec![*a, *b]).collect()
            }
            _ => vec![],
        };
        raise(&self.table, self.matrix.headroom, &failing, Effort::QUICK)
    }
    /// How full the hosts may be on average, of what is installed, so that any one may fail: all machines grown or shrunk
    /// alike until that just holds. `reserves` is what the hosts keep for themselves, `installed` what they have, in bytes.
    pub fn line(&self, reserves: u64, installed: u64) -> Option<f64> {
        if self.open() < 2 || installed == 0 {
            return None;
        }
        let held: u64 = self
            .table
            .machines
            .iter()
            .filter(|m| m.at.is_some())
            .map(|m| m.needs[MEMORY])
            .sum();
        let (mut low, mut high) = (0.0, 4.0);
        for _ in 0..8 {
            let middle: f64 = (low + high) / 2.0;
            let scaled = scaled(&self.table, middle);
            let passes = matrix(&scaled, &[], Effort(200)).headroom > 0;
            if passes { low = middle } else { high = middle }
        }
        Some((reserves as f64 + held as f64 * low) / installed as f64)
    }
}

/// Every machine's memory so many times as large.
fn scaled(table: &Table, by: f64) -> Table {
    let mut then = table.clone();
    for machine in &mut then.machines {
        for d in [MEMORY, SIZES] {
            machine.needs[d] = crate::units::round(machine.needs[d] as f64 * by);
        }
    }
    then
}
