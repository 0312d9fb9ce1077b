//! What is held and asked for on each host, kept up while a batch is placed.

use super::cost::demand;
use crate::{
    estate::{Host, Machine},
    ids::{HostId, MachineId},
    units::{Bytes, Mhz},
    view::View,
};
use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
};

/// One host with the sums over everything on, arriving at, or held room for on it.
#[derive(Debug, Clone)]
pub struct Account {
    pub host: Arc<Host>,
    /// Always kept + overhead.
    pub held: Bytes,
    pub size: Bytes,
    pub vcpus: u32,
    pub cpu_demand: Mhz,
    pub memory_demand: Bytes,
    pub machines: usize,
    pub groups: BTreeSet<String>,
}

#[derive(Debug, Clone, Default)]
pub struct Ledger {
    rows: BTreeMap<HostId, Account>,
}

impl Ledger {
    /// The state of `hosts` now, leaving out the machines in `without`.
    pub fn of(
        view: &View,
        hosts: impl IntoIterator<Item = Arc<Host>>,
        without: &BTreeSet<MachineId>,
    ) -> Self {
        let mut ledger = Ledger::default();
        for host in hosts {
            let id = host.id;
            ledger.rows.insert(id, Account::empty(host));
            let arriving = view.estate.machines_arriving(id);
            for machine in view
                .estate
                .machines_on(id)
                .chain(arriving)
                .filter(|m| !without.contains(&m.id))
            {
                ledger.add(view, id, machine);
            }
        }
        ledger
    }
    pub fn add(&mut self, view: &View, host: HostId, machine: &Machine) {
        if let Some(row) = self.rows.get_mut(&host) {
            row.add(view, machine);
        }
    }
    /// The same without one host.
    pub fn without(&self, host: HostId) -> Self {
        let mut rows = self.rows.clone();
        rows.remove(&host);
        Ledger { rows }
    }
    pub fn row(&self, host: HostId) -> Option<&Account> {
        self.rows.get(&host)
    }
    pub fn rows(&self) -> impl Iterator<Item = &Account> {
        self.rows.values()
    }
}

impl Account {
    pub(crate) fn empty(host: Arc<Host>) -> Self {
        Account {
            host,
            held: Bytes::ZERO,
            size: Bytes::ZERO,
            vcpus: 0,
            cpu_demand: Mhz(0),
            memory_demand: Bytes::ZERO,
            machines: 0,
            groups: BTreeSet::new(),
        }
    }
    fn add(&mut self, view: &View, machine: &Machine) {
        let asks = demand(&view.loads, machine, self.host.hardware.cpu.base);
        self.held += machine.held();
        self.size += machine.memory.size;
        self.vcpus = self.vcpus.saturating_add(machine.vcpus);
        self.cpu_demand = self.cpu_demand + asks.cpu;
        self.memory_demand += asks.active;
        self.machines += 1;
        self.groups.extend(view.estate.apart_groups(machine));
    }
    /// Held memory including the host's own reserve, as people see it: of what is installed.
    pub fn taken(&self) -> Bytes {
        self.held + self.host.reserve()
    }
    /// What is left for machines.
    pub fn free(&self) -> Bytes {
        self.host.usable().less(self.held)
    }
}
