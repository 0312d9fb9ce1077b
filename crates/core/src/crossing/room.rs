//! Whether there is room at the other site: for the plan beside those who are there, and for a failure after that.

use super::{Bound, listed};
use crate::{
    availability::Survival,
    estate::{Cluster, Fact, Host, Machine, MachineState, Road, Wanted},
    finding::{Finding, Rule},
    ids::{ClusterId, HostId},
    placement::{Ledger, choose_all},
    view::View,
};
use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
};

/// Every machine gets a host there, in the order of its stages; and what comes of that.
pub(super) fn placed(view: &View, road: Road<'_>, stages: &mut [Vec<Bound>]) -> Vec<Finding> {
    let estate = &view.estate;
    let mut found = Vec::new();
    let clusters: BTreeSet<ClusterId> = replicas(stages).filter_map(|m| m.cluster).collect();
    for id in clusters {
        let Some(cluster) = estate.clusters.get(&id) else {
            continue;
        };
        let hosts: Vec<Arc<Host>> = estate.hosts_in(id).cloned().collect();
        if hosts.iter().all(|h| !h.accepts_work()) {
            let text = format!("No host of {} takes machines now.", cluster.name);
            found.push(Finding::stop(Rule::HostOpen, &cluster.name, text));
            continue;
        }
        found.push(on(view, cluster, hosts, stages));
    }
    let unknown: Vec<&str> = replicas(stages)
        .filter(|m| m.cluster.is_none_or(|c| !estate.clusters.contains_key(&c)))
        .map(|m| m.name.as_str())
        .collect();
    if !unknown.is_empty() {
        let text = format!(
            "{} at {} belong to no cluster.",
            listed(&unknown),
            road.to.site_name(estate)
        );
        found.push(Finding::stop(Rule::Place, unknown[0], text));
    }
    found
}

fn replicas(stages: &[Vec<Bound>]) -> impl Iterator<Item = &Arc<Machine>> {
    stages.iter().flatten().filter_map(|b| b.replica.as_ref())
}

fn on(view: &View, cluster: &Cluster, hosts: Vec<Arc<Host>>, stages: &mut [Vec<Bound>]) -> Finding {
    let mut ledger = Ledger::of(view, hosts, &BTreeSet::new());
    let mut coming = Vec::new();
    let mut left: Vec<String> = Vec::new();
    let mut why = String::new();
    for stage in stages.iter_mut() {
        let here = |b: &&mut Bound| {
            b.replica
                .as_ref()
                .is_some_and(|r| r.cluster == Some(cluster.id))
        };
        let mut all: Vec<&mut Bound> = stage.iter_mut().filter(here).collect();
        let machines: Vec<Machine> = all.iter().filter_map(|b| as_started(b)).collect();
        let answers = choose_all(view, &mut ledger, cluster, &machines, None);
        for ((bound, machine), answer) in all.iter_mut().zip(machines).zip(answers) {
            match answer {
                Ok(placed) => {
                    bound.host = Some(placed.choice.host);
                    coming.push((machine, placed.choice.host));
                }
                Err(not) => {
                    if left.is_empty() {
                        why = not.evidence(&view.estate);
                    }
                    left.push(bound.machine.name.clone());
                }
            }
        }
    }
    let name = &cluster.name;
    if !left.is_empty() {
        let names: Vec<&str> = left.iter().map(String::as_str).collect();
        let text = format!(
            "{name} has no room for {}, beside those who are there.",
            listed(&names)
        );
        let stop = Finding::stop(Rule::Placement, name, text).because(why);
        return stop.remedy("Add a host there, take machines out of the plan, or make room.");
    }
    afterwards(view, cluster, coming)
}

/// As it would be started: the replica, as a machine of its own.
fn as_started(bound: &Bound) -> Option<Machine> {
    let replica = bound.replica.as_ref()?;
    Some(Machine {
        replica: None,
        wanted: Wanted::On,
        ..Machine::clone(replica)
    })
}

/// Whether the cluster would then still survive what it must.
fn afterwards(view: &View, cluster: &Cluster, coming: Vec<(Machine, HostId)>) -> Finding {
    let name = &cluster.name;
    let count = coming.len();
    let mut per_host: BTreeMap<HostId, usize> = BTreeMap::new();
    let mut estate = (*view.estate).clone();
    for (machine, host) in coming {
        *per_host.entry(host).or_default() += 1;
        let on = Machine {
            host: Some(host),
            state: MachineState::Running { guest: true },
            ..machine
        };
        estate.put(Fact::Machine(Arc::new(on)));
    }
    let then = Survival::of(&view.with(estate), cluster);
    let hosts = per_host.len();
    let text = format!(
        "{name} has room for all {count} machines, on {hosts} hosts, beside those who are there."
    );
    if !cluster.demand.asks() || then.meets(cluster) {
        return Finding::clear(Rule::Placement, name, text).because(then.sentence_of(cluster));
    }
    let text = format!(
        "{name} has room for all {count} machines, but would then not survive what it must: it {}.",
        then.sentence_of(cluster)
    );
    Finding::mind(Rule::Headroom, name, text).remedy("Add a host there, or let less of it restart.")
}
