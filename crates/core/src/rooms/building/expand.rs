//! New hosts of a cluster that is there: once installed they join it, with its networks and its volumes.

use super::{
    Build, Draft, Event, Step,
    assess::{After, clocks, free_names, try_fencing},
};
use crate::{
    estate::{Cluster, Estate, Host, NetRole},
    finding::{Finding, Rule},
    ids::ClusterId,
    road::Ask as _,
    rooms::{clusters, joining, naming},
};
use std::sync::Arc;

pub(super) fn expand(
    draft: &mut Draft<'_>,
    ask: &Build,
    id: ClusterId,
    estate: &Estate,
    hosts: &[Host],
    ours: &After,
) {
    let Some(cluster) = estate.clusters.get(&id).cloned() else {
        let text = "The cluster that they shall join is gone.";
        return draft.found(Finding::stop(Rule::Exists, "cluster", text).at("cluster"));
    };
    let name = &cluster.name;
    draft.title = match hosts {
        [one] => format!("Expand {name} by {}", one.name),
        _ => format!("Expand {name} by {} hosts", ask.install.hosts.len()),
    };
    if !cluster.ready {
        let text = format!("{name} is still being made.");
        let stop = Finding::stop(Rule::State, name, text).at("cluster");
        return draft.found(stop.remedy("Wait until its run is over."));
    }
    management(draft, ask, estate, &cluster);
    let view = draft.view.with(estate.clone());
    let mut part = draft.beside::<joining::Step>(&view);
    let join = joining::Ask::Join {
        cluster: Some(id),
        hosts: hosts.iter().map(|h| h.id).collect(),
    };
    join.assess(&mut part);
    let unknown = |of: &str| hosts.iter().any(|h| h.name == of && h.hardware.cpu.maker.is_empty());
    // What clock, controller and cables say of hosts that are not there yet, and the CPU of a model that nobody knows: the run asks.
    let guessed = |f: &Finding| matches!(f.rule, Rule::CpuLevel | Rule::CpuMaker) && unknown(&f.subject);
    let asked_later = |f: &Finding| matches!(f.rule, Rule::Clock | Rule::Bmc | Rule::Wire) && !f.stops();
    part.leave_out(|f| !guessed(f) && !asked_later(f));
    let right = clocks(draft, ask, hosts, ours);
    let waits = |step: &joining::Step, _: bool| match step {
        joining::Step::Cluster(clusters::Step::Verify { host, .. }) => ours.get(host).copied().into_iter().collect(),
        joining::Step::Cluster(clusters::Step::Join { host, .. }) => right.get(host).copied().into_iter().collect(),
        joining::Step::Host(_) | joining::Step::Cluster(_) | joining::Step::Storage(_) | joining::Step::Network(_) | joining::Step::Name(_) => vec![],
    };
    let title = std::mem::take(&mut draft.title);
    draft.take_in_by(part, waits, |f| f, (step_of, event_of));
    draft.title = title;
    let mut part = draft.beside::<naming::Step>(draft.view);
    free_names(&mut part, &cluster, &ask.install.hosts);
    draft.take_in(part, &[], |f| f, (Step::Name, Event::Name));
    later(draft, &cluster, hosts);
    if ask.fencing {
        try_fencing(draft, hosts);
    }
}

/// Their own addresses lie in the network that is for management there.
fn management(draft: &mut Draft<'_>, ask: &Build, estate: &Estate, cluster: &Cluster) {
    let networks = estate.networks_of(cluster.id);
    let Some(network) = networks.iter().find(|n| n.role == NetRole::Management) else {
        let text = format!("No network of {} is for management; whether they reach the others shows when they are installed.", cluster.name);
        return draft.found(Finding::unchecked(Rule::Subnet, &cluster.name, text));
    };
    let text = format!("{} of {} has other addresses than these.", network.name, cluster.name);
    let within = network.subnets.iter().any(|s| s.net.trunc().to_string() == ask.install.subnet.trim());
    if !within || network.vlan != ask.install.vlan {
        let stop = Finding::stop(Rule::Subnet, &network.name, text).at("cluster");
        draft.found(stop.remedy("Look at the sheet again: its network was changed meanwhile."));
    }
}

/// What nobody can say before they are installed.
fn later(draft: &mut Draft<'_>, cluster: &Cluster, hosts: &[Host]) {
    let all: Vec<Arc<Host>> = hosts.iter().cloned().map(Arc::new).collect();
    let unknown: Vec<&str> = all.iter().filter(|h| h.hardware.cpu.maker.is_empty()).map(|h| h.name.as_str()).collect();
    if !unknown.is_empty() {
        let text = format!("Nothing is known of the CPU of {} before it is installed.", unknown.join(", "));
        let because = format!("each is asked before it joins {}; one that does not fit stays out", cluster.name);
        draft.found(Finding::unchecked(Rule::CpuLevel, "CPU level", text).because(because));
    }
    let text = format!("Where the cables of the hosts lead shows once they are installed; whether the switches carry the networks of {} is not known before.", cluster.name);
    draft.found(Finding::unchecked(Rule::Wire, "switch ports", text));
}

fn step_of(step: joining::Step) -> Step {
    match step {
        joining::Step::Host(step) => Step::Host(step),
        joining::Step::Cluster(step) => Step::Cluster(step),
        joining::Step::Storage(step) => Step::Storage(step),
        joining::Step::Network(step) => Step::Network(step),
        joining::Step::Name(step) => Step::Name(step),
    }
}

fn event_of(event: joining::Event) -> Event {
    match event {
        joining::Event::Host(event) => Event::Host(event),
        joining::Event::Cluster(event) => Event::Cluster(event),
        joining::Event::Storage(event) => Event::Storage(event),
        joining::Event::Network(event) => Event::Network(event),
        joining::Event::Name(event) => Event::Name(event),
    }
}
