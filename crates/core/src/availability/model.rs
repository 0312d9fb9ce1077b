//! A cluster of the estate as a table.

use super::table::{HostRow, MachineRow, Restart, Table};
use crate::{
    estate::{Cluster, ClusterKind, Host, Machine, Memory, RuleKind},
    ids::{HostId, MachineId, NetworkId, VolumeId},
    moment::Span,
    packing::Amount,
    placement::{Account, Ask, Obstacle, demand, obstacles},
    runs::GUEST_ANSWERS,
    units::Bytes,
    view::View,
};
use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
};

/// Sizes may be promised so many hundredths of what is usable, and vCPUs so many for each core, before it stops.
const PROMISED: u64 = 150;
const PER_CORE: u64 = 8;
/// vCPUs are counted in thousandths, so that files may say half a core.
pub(super) const THOUSAND: u64 = 1000;

/// The hosts and machines of a cluster, and behind them machines that have no host yet.
pub fn model_with(view: &View, cluster: &Cluster, coming: &[Machine]) -> Table {
    let (hosts, machines, groups) = build(view, cluster, coming);
    Table {
        hosts: hosts.iter().map(|h| host_row(view, cluster, h)).collect(),
        machines,
        groups,
        boot: boot(view),
    }
}

/// The hosts and machines of a cluster, and which machines have their disks on each of its volumes.
pub fn model(view: &View, cluster: &Cluster) -> (Table, Vec<(String, Vec<usize>)>) {
    let estate = &view.estate;
    let (hosts, rows, names) = build(view, cluster, &[]);
    let on = |volume: VolumeId| {
        let with = |m: &&MachineRow| {
            let machine = m.id.and_then(|id| estate.machines.get(&id));
            machine.is_some_and(|m| m.volumes().contains(&volume))
        };
        let all = rows.iter().enumerate();
        all.filter(|(_, m)| with(m))
            .map(|(i, _)| i)
            .collect::<Vec<_>>()
    };
    let volumes = estate.volumes_of(cluster);
    let volumes = volumes.iter().map(|v| (v.name.clone(), on(v.id))).collect();
    let table = Table {
        hosts: hosts.iter().map(|h| host_row(view, cluster, h)).collect(),
        machines: rows,
        groups: names,
        boot: boot(view),
    };
    (table, volumes)
}

/// How long guests boot here, where that was measured.
fn boot(view: &View) -> Option<Span> {
    view.pace.measured(GUEST_ANSWERS.0, GUEST_ANSWERS.1)
}

/// Hosts by name, machines, and the names of their groups.
type Built = (Vec<Arc<Host>>, Vec<MachineRow>, Vec<String>);

fn build(view: &View, cluster: &Cluster, coming: &[Machine]) -> Built {
    let estate = &view.estate;
    let mut hosts: Vec<Arc<Host>> = estate.hosts_in(cluster.id).cloned().collect();
    hosts.sort_by(|a, b| a.name.cmp(&b.name));
    let place: BTreeMap<HostId, usize> = hosts.iter().enumerate().map(|(i, h)| (h.id, i)).collect();
    let mut making = Making {
        view,
        cluster,
        empty: hosts.iter().map(|h| Account::empty(h.clone())).collect(),
        place,
        groups: BTreeMap::new(),
        classes: BTreeMap::new(),
        rows: Vec::new(),
        index: BTreeMap::new(),
    };
    for host in &hosts {
        let arriving = estate.machines_arriving(host.id).map(|m| (m, true));
        let here = estate.machines_on(host.id).map(|m| (m, false));
        // They should be on: their place is wanted, here or elsewhere.
        let fallen = estate.machines_fallen_from(host.id).map(|m| (m, false));
        for (machine, arrives) in here.chain(arriving).chain(fallen) {
            making.add(host, machine, arrives);
        }
    }
    for machine in coming {
        if let Some(host) = hosts.first() {
            making.add(host, machine, false);
        }
        if let Some(row) = making.rows.last_mut() {
            row.at = None;
        }
    }
    let names = making.names();
    let rows = making.finish();
    (hosts, rows, names)
}

fn host_row(view: &View, cluster: &Cluster, host: &Host) -> HostRow {
    let usable = host.usable();
    let cores = u64::from(host.hardware.cpu.cores);
    let mut domains: BTreeMap<String, String> = Host::DOMAINS
        .iter()
        .filter_map(|kind| Some(((*kind).to_owned(), host.labels.get(*kind)?.clone())))
        .collect();
    let sites: BTreeSet<_> = view.estate.hosts_in(cluster.id).map(|h| h.site).collect();
    if sites.len() > 1 || cluster.kind == ClusterKind::TwoSites {
        let site = view.estate.sites.get(&host.site);
        domains.insert(
            "site".into(),
            site.map_or_else(|| host.site.to_string(), |s| s.name.clone()),
        );
    }
    HostRow {
        id: Some(host.id),
        name: host.name.clone(),
        room: [
            usable.0,
            usable.0 / 100 * PROMISED,
            cores * PER_CORE * THOUSAND,
            host.hardware.cpu_capacity().0,
            usable.0,
        ],
        closed: closed(host).map(str::to_owned),
        gone: host.is_gone(),
        fencing: view.estate.means(host).first().map(|m| m.takes()),
        domains,
    }
}

/// Why nothing can be put on a host.
fn closed(host: &Host) -> Option<&'static str> {
    match (host.takes_machines(), host.accepts_work()) {
        (true, _) => None,
        (false, true) => Some("it is in maintenance"),
        (false, false) => Some("it does not accept work"),
    }
}

/// What decides which hosts may take a machine, whatever room they have.
type Class = (Vec<VolumeId>, Vec<NetworkId>, u32, u32, Vec<String>);

struct Making<'a> {
    view: &'a View,
    cluster: &'a Cluster,
    /// Each host with nothing on it.
    empty: Vec<Account>,
    place: BTreeMap<HostId, usize>,
    groups: BTreeMap<String, u32>,
    classes: BTreeMap<Class, Option<Arc<Vec<bool>>>>,
    rows: Vec<MachineRow>,
    index: BTreeMap<MachineId, usize>,
}

impl Making<'_> {
    fn group(&mut self, name: String) -> u32 {
        let next = u32::try_from(self.groups.len()).unwrap_or(u32::MAX);
        *self.groups.entry(name).or_insert(next)
    }

    fn add(&mut self, host: &Host, machine: &Machine, arrives: bool) {
        let asks = demand(&self.view.loads, machine, host.hardware.cpu.base);
        let needs: Amount = [
            machine.held().0,
            machine.memory.size.0,
            u64::from(machine.vcpus) * THOUSAND,
            asks.cpu.0,
            asks.active.0,
        ];
        let estate = self.view.estate.clone();
        let apart = estate.apart_groups(machine);
        let apart = apart.into_iter().map(|g| self.group(g)).collect();
        let mut rules = estate.rules_of(machine);
        let together = rules.find(|r| r.required && r.kind == RuleKind::Together);
        let together = together.map(|r| self.group(r.name.to_string()));
        let restart = match (arrives, machine.restarts) {
            (true, _) => Restart::Arriving,
            (false, true) => Restart::Yes,
            (false, false) => Restart::Unprotected,
        };
        let only = self.only(machine);
        if !arrives {
            self.index.insert(machine.id, self.rows.len());
        }
        self.rows.push(MachineRow {
            id: Some(machine.id),
            name: machine.name.clone(),
            needs,
            kept: machine.memory.kept.0,
            tier: machine.tier,
            at: self.place.get(&host.id).copied(),
            restart,
            apart,
            together,
            only,
            after: None,
        });
    }

    /// The hosts that may take a machine like this one, whatever room they have; none: all.
    fn only(&mut self, machine: &Machine) -> Option<Arc<Vec<bool>>> {
        let pins = self.view.estate.rules_of(machine);
        let pins = pins.filter(|r| r.required && matches!(r.kind, RuleKind::Pinned(_)));
        let class: Class = (
            machine.mounts().into_iter().collect(),
            machine.nics.iter().filter_map(|n| n.network).collect(),
            machine.virtual_hardware,
            machine.vcpus,
            pins.map(|r| r.name.to_string()).collect(),
        );
        if let Some(known) = self.classes.get(&class) {
            return known.clone();
        }
        let mut light = machine.clone();
        light.memory = Memory {
            kept: Bytes::ZERO,
            size: Bytes::ZERO,
            max: Bytes::ZERO,
        };
        let may = |row: &Account| {
            let found = obstacles(Ask {
                machine: &light,
                row,
                cluster: Some(self.cluster),
                estate: &self.view.estate,
            });
            // Where the others of a rule are is looked at when they are placed.
            let stops = |o: &Obstacle| o.stops() && !matches!(o, Obstacle::Together { .. });
            !found.iter().any(stops)
        };
        let all: Vec<bool> = self.empty.iter().map(may).collect();
        let only = all.contains(&false).then(|| Arc::new(all));
        self.classes.insert(class, only.clone());
        only
    }

    /// The groups' names by number.
    fn names(&self) -> Vec<String> {
        let mut all: Vec<_> = self.groups.iter().collect();
        all.sort_by_key(|(_, n)| **n);
        all.into_iter().map(|(name, _)| name.clone()).collect()
    }

    fn finish(mut self) -> Vec<MachineRow> {
        for row in &mut self.rows {
            let machine = row.id.and_then(|id| self.view.estate.machines.get(&id));
            row.after = machine.and_then(|m| self.index.get(&m.after?).copied());
        }
        self.rows
    }
}
