//! Whether a machine that is on still fits where it is, when it has something else than before.

use super::{Draft, Work};
use crate::{
    estate::{Fact, Machine, MachineState},
    finding::Offer,
    ids::HostId,
    placement::{self, Ledger, obstacles},
};
use std::{collections::BTreeSet, sync::Arc};

impl<S: Work> Draft<'_, S> {
    /// Says what new obstacle there is at its own host, and which other one has room.
    pub fn fits(&mut self, machine: &Machine, then: &Machine, field: &str) {
        let estate = self.estate();
        let Some(host) = machine.host.and_then(|h| estate.hosts.get(&h)).cloned() else {
            return;
        };
        let cluster = machine
            .cluster
            .and_then(|c| estate.clusters.get(&c))
            .cloned();
        let mut fork = (*self.view.estate).clone();
        fork.put(Fact::Machine(Arc::new(then.clone())));
        let view = self.view.with(fork);
        let own = BTreeSet::from([machine.id]);
        let speaks = |on: HostId| {
            let ledger = Ledger::of(&view, view.estate.hosts.get(&on).cloned(), &own);
            let row = ledger.row(on)?;
            Some(obstacles(placement::Ask {
                machine: then,
                row,
                cluster: cluster.as_deref(),
                estate: &view.estate,
            }))
        };
        let before = self.view.clone();
        let ledger = Ledger::of(&before, Some(host.clone()), &own);
        let had = ledger.row(host.id).map(|row| {
            obstacles(placement::Ask {
                machine,
                row,
                cluster: cluster.as_deref(),
                estate: &before.estate,
            })
        });
        let had = had.unwrap_or_default();
        let new = speaks(host.id)
            .unwrap_or_default()
            .into_iter()
            .filter(|o| !had.contains(o));
        let new: Vec<_> = new.collect();
        let others = cluster
            .as_ref()
            .map(|c| before.estate.hosts_in(c.id).filter(|h| h.id != host.id));
        let better = others.into_iter().flatten().find(|h| {
            let found = speaks(h.id);
            found.is_some_and(|found| found.iter().all(|o| !o.stops()))
        });
        for obstacle in new {
            let mut finding = obstacle.finding(&machine.name, &host.name).at(field);
            if obstacle.stops() {
                finding = match better {
                    Some(other) => finding
                        .remedy(format!("There is room for it on {}.", other.name))
                        .offering(elsewhere(machine, then)),
                    None => finding.remedy("No other host of its cluster has room for it either."),
                };
            }
            self.found(finding);
        }
    }
}

/// That it is moved to where there is room, and then gets more; where it is its sizes that grow.
fn elsewhere(machine: &Machine, then: &Machine) -> Option<Offer> {
    let runs = matches!(machine.state, MachineState::Running { .. });
    let more = machine.memory != then.memory || machine.vcpus != then.vcpus;
    (runs && more).then_some(Offer::MoveThenGrow {
        machine: machine.id,
        vcpus: then.vcpus,
        memory: then.memory.size,
        kept: then.memory.kept,
    })
}
