//! Rules that are broken just now, and the move that would heal each.

use crate::{
    estate::{Cluster, Machine, PlaceRule, RuleKind},
    ids::{HostId, MachineId},
    placement::{Ledger, choose},
    view::View,
};
use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
};

/// A rule that doesn't hold.
#[derive(Debug, Clone, PartialEq)]
pub struct Broken {
    pub rule: String,
    pub required: bool,
    /// `db and db-2 are both on h1`
    pub words: String,
    /// The machine to move, and where to; none where no move alone heals it.
    pub heal: Option<(MachineId, HostId)>,
}

/// Every broken rule of a cluster, in the order of its rules; keep-apart groups of machines come last.
pub fn broken(view: &View, cluster: &Cluster) -> Vec<Broken> {
    let estate = &view.estate;
    let on: Vec<Arc<Machine>> = estate
        .machines_in(cluster.id)
        .filter(|m| m.host.is_some())
        .cloned()
        .collect();
    let mut found = Vec::new();
    for rule in &cluster.rules {
        let mine: Vec<&Arc<Machine>> = on.iter().filter(|m| rule.who.has(m)).collect();
        match &rule.kind {
            RuleKind::Apart => {
                found.extend(shared(view, cluster, &rule.name, rule.required, &mine))
            }
            RuleKind::Together => found.extend(scattered(view, cluster, rule, &mine)),
            RuleKind::Pinned(to) => {
                let off = mine.iter().filter(|m| {
                    let host = m.host.and_then(|h| estate.hosts.get(&h));
                    host.is_some_and(|h| !to.has(h))
                });
                found.extend(off.map(|m| Broken {
                    rule: rule.name.to_string(),
                    required: rule.required,
                    words: format!("{} is on {}", m.name, host_name(view, m)),
                    heal: heal(view, cluster, m),
                }));
            }
        }
    }
    let mut groups: BTreeMap<&str, Vec<&Arc<Machine>>> = BTreeMap::new();
    for machine in &on {
        if let Some(group) = &machine.apart {
            groups.entry(group).or_default().push(machine);
        }
    }
    for (group, machines) in groups {
        found.extend(shared(view, cluster, group, true, &machines));
    }
    found
}

fn host_name(view: &View, machine: &Machine) -> String {
    let host = machine.host.and_then(|h| view.estate.hosts.get(&h));
    host.map_or_else(String::new, |h| h.name.clone())
}

/// Machines that should be apart and share a host.
fn shared(
    view: &View,
    cluster: &Cluster,
    rule: &str,
    required: bool,
    machines: &[&Arc<Machine>],
) -> Vec<Broken> {
    let mut by_host: BTreeMap<HostId, Vec<&Arc<Machine>>> = BTreeMap::new();
    for machine in machines {
        if let Some(host) = machine.host {
            by_host.entry(host).or_default().push(machine);
        }
    }
    let several = by_host.into_values().filter(|all| all.len() > 1);
    several
        .map(|all| {
            let names: Vec<_> = all.iter().map(|m| m.name.as_str()).collect();
            Broken {
                rule: rule.to_owned(),
                required,
                words: format!("{} are on {}", names.join(" and "), host_name(view, all[0])),
                // The smallest goes.
                heal: all
                    .iter()
                    .min_by_key(|m| (m.held(), m.id))
                    .and_then(|m| heal(view, cluster, m)),
            }
        })
        .collect()
}

/// Machines that should share a host and don't.
fn scattered(
    view: &View,
    cluster: &Cluster,
    rule: &PlaceRule,
    machines: &[&Arc<Machine>],
) -> Option<Broken> {
    let mut by_host: BTreeMap<HostId, usize> = BTreeMap::new();
    for host in machines.iter().filter_map(|m| m.host) {
        *by_host.entry(host).or_default() += 1;
    }
    if by_host.len() < 2 {
        return None;
    }
    let most = by_host
        .iter()
        .max_by_key(|(id, n)| (**n, std::cmp::Reverse(**id)))
        .map(|(id, _)| *id);
    let away: Vec<_> = machines.iter().filter(|m| m.host != most).collect();
    let names: Vec<_> = away
        .iter()
        .map(|m| format!("{} is on {}", m.name, host_name(view, m)))
        .collect();
    let to = most.filter(|_| away.len() == 1);
    Some(Broken {
        rule: rule.name.to_string(),
        required: rule.required,
        words: names.join(", "),
        heal: to.and_then(|to| fits(view, cluster, away[0], Some(to))),
    })
}

/// The best host on which the machine would break no rule.
fn heal(view: &View, cluster: &Cluster, machine: &Machine) -> Option<(MachineId, HostId)> {
    fits(view, cluster, machine, None)
}

fn fits(
    view: &View,
    cluster: &Cluster,
    machine: &Machine,
    to: Option<HostId>,
) -> Option<(MachineId, HostId)> {
    let hosts: Vec<_> = view
        .estate
        .hosts_in(cluster.id)
        .filter(|h| Some(h.id) != machine.host)
        .cloned()
        .collect();
    let ledger = Ledger::of(view, hosts, &BTreeSet::from([machine.id]));
    // On its own it follows nobody.
    let choice = choose(view, &ledger, cluster, machine, to).ok()?;
    let preferred =
        |o: &crate::placement::Obstacle| matches!(o, crate::placement::Obstacle::Preferred { .. });
    (!choice.minds.iter().any(preferred)).then_some((machine.id, choice.host))
}
