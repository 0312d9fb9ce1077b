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
        let sites = cluster.kind != ClusterKind::Stretched
            || self.matrix.rows.iter().filter(site).all(Case::passes);
        self.matrix.headroom >= cluster.demand.failures && sites
    }
    /// Machines that don't restart, over all hosts that may fail.
    pub fn left_over(&self) -> usize {
        let rows = self.matrix.hosts().map(|r| r.failure.not_restarted.len());
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
