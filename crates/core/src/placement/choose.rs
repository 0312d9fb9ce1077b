//! Choosing hosts: least cost among those that fit, with the reason for every other.

use super::{Ask, Ledger, Obstacle, cost, fit::obstacles};
use crate::{
    availability::{Effort, model_with, place},
    estate::{Cluster, Estate, Machine},
    ids::{HostId, MachineId},
    units::Bytes,
    view::View,
};

/// What a broken preferred rule costs: as much as a host that is nearly two thirds full.
const PENALTY: f64 = 1.0;

/// Where a machine goes, and why not elsewhere.
#[derive(Debug, Clone, PartialEq)]
pub struct Choice {
    pub host: HostId,
    pub cost: f64,
    /// What to think about on the chosen host.
    pub minds: Vec<Obstacle>,
    /// The other hosts that would do, dearest last, with their cost.
    pub others: Vec<(HostId, f64)>,
    /// The hosts that can't, with everything that speaks against each.
    pub refused: Vec<(HostId, Vec<Obstacle>)>,
}

#[derive(Debug, Clone, PartialEq)]
pub struct Placed {
    pub machine: MachineId,
    pub choice: Choice,
}

/// No host takes it: what speaks against each.
#[derive(Debug, Clone, PartialEq)]
pub struct NotPlaced {
    pub machine: MachineId,
    pub refused: Vec<(HostId, Vec<Obstacle>)>,
    /// It fits nowhere, even if all hosts were empty: by this much memory, if that is why.
    pub never: Option<Bytes>,
    /// The memory that it would hold.
    pub needs: Bytes,
}

impl NotPlaced {
    /// What the refusal rests on, in words: the bound if there is one, else what stands in the way on the first hosts.
    pub fn evidence(&self, estate: &Estate) -> String {
        const SHOWN: usize = 4;
        if let Some(by) = self.never {
            let largest = self.needs.less(by);
            return format!(
                "it would hold {}; the largest host, empty, has {largest} for machines",
                self.needs
            );
        }
        let mut lines: Vec<String> = Vec::new();
        for (host, found) in self.refused.iter().take(SHOWN) {
            let name = estate
                .hosts
                .get(host)
                .map_or_else(|| host.to_string(), |h| h.name.clone());
            let words: Vec<_> = found
                .iter()
                .filter(|o| o.stops())
                .map(Obstacle::words)
                .collect();
            lines.push(format!("{name}: {}", words.join("; ")));
        }
        if self.refused.len() > SHOWN {
            lines.push(format!("and {} more hosts", self.refused.len() - SHOWN));
        }
        lines.join(" · ")
    }
}

/// The best host for one machine, in the state of `ledger`. `only` limits the choice to one host.
/// Ties: fewer machines, then name.
///
/// # Errors
/// [`NotPlaced`] with the reasons when no host takes it.
pub fn choose(
    view: &View,
    ledger: &Ledger,
    cluster: &Cluster,
    machine: &Machine,
    only: Option<HostId>,
) -> Result<Choice, NotPlaced> {
    let mut fitting = Vec::new();
    let mut refused = Vec::new();
    for row in ledger
        .rows()
        .filter(|row| only.is_none_or(|host| row.host.id == host))
    {
        let found = obstacles(Ask {
            machine,
            row,
            cluster: Some(cluster),
            estate: &view.estate,
        });
        if found.iter().any(Obstacle::stops) {
            refused.push((row.host.id, found));
        } else {
            let preferred = found
                .iter()
                .filter(|o| matches!(o, Obstacle::Preferred { .. }));
            let penalty = PENALTY * preferred.count() as f64;
            fitting.push((cost(&view.loads, row, machine) + penalty, row, found));
        }
    }
    fitting.sort_by(|a, b| {
        a.0.total_cmp(&b.0)
            .then(a.1.machines.cmp(&b.1.machines))
            .then_with(|| a.1.host.name.cmp(&b.1.host.name))
    });
    let others = fitting
        .iter()
        .skip(1)
        .map(|(cost, row, _)| (row.host.id, *cost))
        .collect();
    match fitting.into_iter().next() {
        Some((cost, row, minds)) => Ok(Choice {
            host: row.host.id,
            cost,
            minds,
            others,
            refused,
        }),
        None => Err(NotPlaced {
            machine: machine.id,
            never: never(ledger, machine),
            needs: machine.held(),
            refused,
        }),
    }
}

/// By how much the machine is larger than the largest empty host; none if it would fit an empty one.
fn never(ledger: &Ledger, machine: &Machine) -> Option<Bytes> {
    let largest = ledger.rows().map(|row| row.host.usable()).max()?;
    (machine.held() > largest).then(|| machine.held().less(largest))
}

/// Places a batch: by restart tier, then by the larger of its shares of CPU and memory, descending; each on the least
/// cost host that fits. Where that leaves some over, the whole batch is packed instead, if so all find room. The answers
/// stand in the order of `machines`.
pub fn choose_all(
    view: &View,
    ledger: &mut Ledger,
    cluster: &Cluster,
    machines: &[Machine],
    only: Option<HostId>,
) -> Vec<Result<Placed, NotPlaced>> {
    let before = ledger.clone();
    let answers = one_by_one(view, ledger, cluster, machines, only);
    if only.is_some() || machines.len() < 2 || answers.iter().all(Result::is_ok) {
        return answers;
    }
    let mut packed = before;
    match repack(view, &mut packed, cluster, machines) {
        Some(better) => {
            *ledger = packed;
            better
        }
        None => answers,
    }
}

/// The batch as a packing: every machine has a host, or none is told.
fn repack(
    view: &View,
    ledger: &mut Ledger,
    cluster: &Cluster,
    machines: &[Machine],
) -> Option<Vec<Result<Placed, NotPlaced>>> {
    let table = model_with(view, cluster, machines);
    let first = table.machines.len() - machines.len();
    let placing = place(&table, Effort::QUICK);
    if !placing.left.is_empty() {
        return None;
    }
    let mut answers = Vec::new();
    for (n, machine) in machines.iter().enumerate() {
        let to = placing.placed.iter().find(|(m, _)| *m == first + n)?.1;
        let choice = choose(view, ledger, cluster, machine, table.hosts[to].id).ok()?;
        ledger.add(view, choice.host, machine);
        answers.push(Ok(Placed {
            machine: machine.id,
            choice,
        }));
    }
    Some(answers)
}

fn one_by_one(
    view: &View,
    ledger: &mut Ledger,
    cluster: &Cluster,
    machines: &[Machine],
    only: Option<HostId>,
) -> Vec<Result<Placed, NotPlaced>> {
    let mut order: Vec<usize> = (0..machines.len()).collect();
    order.sort_by(|a, b| {
        let (a, b) = (&machines[*a], &machines[*b]);
        a.tier
            .cmp(&b.tier)
            .then(dominant(ledger, b).total_cmp(&dominant(ledger, a)))
            .then(a.id.cmp(&b.id))
    });
    let mut answers: Vec<Option<Result<Placed, NotPlaced>>> = vec![None; machines.len()];
    for i in order {
        let machine = &machines[i];
        let answer = choose(view, ledger, cluster, machine, only);
        if let Ok(choice) = &answer {
            ledger.add(view, choice.host, machine);
        }
        answers[i] = Some(answer.map(|choice| Placed {
            machine: machine.id,
            choice,
        }));
    }
    answers.into_iter().flatten().collect()
}

/// The larger of the machine's shares of all CPU and of all memory.
fn dominant(ledger: &Ledger, machine: &Machine) -> f64 {
    let memory: Bytes = ledger.rows().map(|row| row.host.usable()).sum();
    let cores: u32 = ledger.rows().map(|row| row.host.hardware.cpu.cores).sum();
    let cpu = f64::from(machine.vcpus) / f64::from(cores.max(1));
    machine.held().share_of(memory).max(cpu)
}
