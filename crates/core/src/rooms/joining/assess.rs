//! The checks of a cluster's creation, against the cluster as it is; then everything that its hosts have.

use super::{Draft, Event, Step};
use crate::{
    estate::{Cluster, Condition, Fact, Host, Network, Standing, Volume},
    finding::{Finding, Rule},
    ids::{ClusterId, HostId},
    road::Ask as _,
    rooms::{
        clusters::{self, MOST_HOSTS, member_checks},
        hosts::{self, ClaimHosts},
        naming, networks, storage,
    },
};
use std::{collections::BTreeMap, sync::Arc};

pub(super) fn join(draft: &mut Draft<'_>, cluster: Option<ClusterId>, hosts: &[HostId]) {
    "Join a cluster".clone_into(&mut draft.title);
    let chosen = draft.chosen(hosts).into_iter();
    let hosts: Vec<Arc<Host>> = chosen.filter_map(|id| draft.host(id)).cloned().collect();
    if hosts.is_empty() {
        let text = "Choose the hosts that shall join.";
        draft.found(Finding::stop(Rule::Nothing, "hosts", text).at("hosts"));
    }
    let cluster = cluster.and_then(|id| draft.estate().clusters.get(&id)).cloned();
    let Some(cluster) = cluster else {
        let text = "Choose the cluster that they shall join.";
        return draft.found(Finding::stop(Rule::Exists, "cluster", text).at("cluster"));
    };
    let name = &cluster.name;
    draft.title = match hosts.as_slice() {
        [one] => format!("{} joins {name}", one.name),
        many => format!("{} hosts join {name}", many.len()),
    };
    let many = cluster.hosts.len() + hosts.len();
    if many > MOST_HOSTS {
        let text = format!("{name} would have {many} hosts; a cluster has at most {MOST_HOSTS}.");
        draft.found(Finding::stop(Rule::Count, name, text).at("hosts"));
    }
    let mut joined = Vec::new();
    for host in &hosts {
        let found = member_checks(draft.view, draft.now, host);
        draft.found_all(found);
        fits_in(draft, &cluster, host);
        joined.push(steps(draft, &cluster, host));
    }
    if cluster.dns.is_some() {
        let named: Vec<_> = hosts.iter().map(|h| (h.id, h.name.clone())).collect();
        let mut part = draft.beside::<naming::Step>(draft.view);
        naming::of_hosts(&mut part, cluster.id, &named, &[]);
        draft.take_in(part, &joined, |f| f, (Step::Name, Event::Name));
    }
}

/// The claim of each as it would be alone; then it joins, on an estate in which it is ours.
pub(super) fn welcome(draft: &mut Draft<'_>, claim: &ClaimHosts, cluster: ClusterId) {
    let mut part = draft.beside::<hosts::Step>(draft.view);
    hosts::Ask::Claim(claim.clone()).assess(&mut part);
    let mut estate = (*draft.view.estate).clone();
    part.in_estate(&mut estate);
    let kinds: Vec<hosts::Step> = part.planned().cloned().collect();
    let steps = draft.take_in(part, &[], |f| f, (Step::Host, Event::Host));
    let ours: BTreeMap<HostId, usize> = kinds.iter().map(hosts::Step::host).zip(steps).collect();
    if ours.is_empty() {
        "Claim hosts that join a cluster".clone_into(&mut draft.title);
        return;
    }
    let will_be: Vec<Host> = ours.keys().filter_map(|id| estate.hosts.get(id)).map(|h| Host { condition: Condition::Steady, ..(**h).clone() }).collect();
    will_be.into_iter().for_each(|h| estate.put(Fact::Host(h.into())));
    let view = draft.view.with(estate);
    let mut part = draft.beside::<Step>(&view);
    let ids: Vec<HostId> = ours.keys().copied().collect();
    join(&mut part, Some(cluster), &ids);
    // What clock and controller say can be asked only once they are ours; the run asks them.
    part.leave_out(|f| !matches!(f.rule, Rule::Clock | Rule::Bmc) || f.stops());
    let waits = |step: &Step, _: bool| match step {
        Step::Cluster(clusters::Step::Verify { host, .. }) => ours.get(host).copied().into_iter().collect(),
        Step::Host(_) | Step::Cluster(_) | Step::Storage(_) | Step::Network(_) | Step::Name(_) => vec![],
    };
    let title = std::mem::take(&mut draft.title);
    draft.take_in_by(part, waits, |f| f, (|s| s, |e| e));
    draft.title = title;
    let name = view.estate.clusters.get(&cluster).map_or("a cluster", |c| c.name.as_str());
    draft.title = match ours.len() {
        1 => format!("A new host joins {name}"),
        n => format!("{n} new hosts join {name}"),
    };
}

/// Whether the host is like the others in what can't be told apart later.
fn fits_in(draft: &mut Draft<'_>, cluster: &Cluster, host: &Host) {
    let (name, cpu) = (&host.name, &host.hardware.cpu);
    let stop = |rule, text: String| Finding::stop(rule, name, text).at("hosts");
    if cpu.maker != cluster.cpu_maker {
        let text = format!("The CPU of {name} is from {}, those of {} from {}; a running machine can't move between them.", cpu.maker, cluster.name, cluster.cpu_maker);
        draft.found(stop(Rule::CpuMaker, text));
    }
    if cpu.level < cluster.cpu_level {
        let text = format!("{name} has CPU level {}; {} asks for {}.", cpu.level, cluster.name, cluster.cpu_level);
        draft.found(stop(Rule::CpuLevel, text));
    } else {
        let text = format!("{name} has CPU level {}; {} asks for {}.", cpu.level, cluster.name, cluster.cpu_level);
        draft.found(Finding::clear(Rule::CpuLevel, name, text));
    }
    let sites: std::collections::BTreeSet<_> = draft.estate().hosts_in(cluster.id).map(|h| h.site).collect();
    if !sites.is_empty() && !sites.contains(&host.site) {
        let text = format!("{name} is at another site than the hosts of {}.", cluster.name);
        draft.found(stop(Rule::State, text));
    }
    let other = draft.estate().hosts_in(cluster.id).find(|h| h.software != host.software);
    if let Some(other) = other {
        let text = format!("{name} has software {}, {} has {}.", host.software, other.name, other.software);
        draft.found(Finding::mind(Rule::Software, name, text).at("hosts"));
    }
}

/// It is checked, joins, gets every network of the cluster and mounts every volume that all of its hosts shall have. Answers the
/// step with which it has joined.
fn steps(draft: &mut Draft<'_>, cluster: &Cluster, host: &Host) -> usize {
    let name = &host.name;
    let verify = Step::Cluster(clusters::Step::Verify { host: host.id, near: None });
    let checked = draft.step(verify, format!("Check clock and controller of {name}"), &[], Some("hosts"));
    let join = Step::Cluster(clusters::Step::Join {
        host: host.id,
        cluster: cluster.id,
        volume: None,
    });
    let joined = draft.step(join, format!("{name} joins {}", cluster.name), &[checked], Some("hosts"));
    let networks: Vec<Arc<Network>> = draft.estate().networks_of(cluster.id).into_iter().filter(|n| n.ready).cloned().collect();
    let carried: Vec<String> = networks.iter().map(|n| n.name.clone()).collect();
    for network in networks {
        carries(draft, host, &network);
        let step = Step::Network(networks::Step::Set {
            network: network.id,
            host: host.id,
        });
        let set = draft.step(step, format!("Set {} up on {name}", network.name), &[joined], Some("hosts"));
        try_out(draft, host, &network, set);
        ask_gateway(draft, host, &network, set);
    }
    if host.seen == (0, 0) && !carried.is_empty() {
        let text = format!("Where the cables of {name} lead shows once it is claimed; whether the switches carry {} is not known before.", carried.join(", "));
        draft.found(Finding::unchecked(Rule::Wire, name, text));
    }
    let volumes: Vec<Arc<Volume>> = draft.estate().volumes_of(cluster).into_iter().filter(|v| v.ready && v.intended.is_none()).cloned().collect();
    for volume in volumes {
        mounts(draft, cluster, host, &volume, joined);
    }
    joined
}

/// Packets get from it to one that has the network already.
fn try_out(draft: &mut Draft<'_>, host: &Host, network: &Network, set: usize) {
    if network.is_isolated() {
        return;
    }
    let others = draft.estate().hosts_in(network.cluster);
    let has = |h: &&Arc<Host>| h.accepts_work() && h.networks.contains_key(&network.name);
    let Some(to) = others.filter(has).min_by_key(|h| h.name.clone()).cloned() else { return };
    let step = Step::Network(networks::Step::Try {
        network: network.id,
        host: host.id,
        to: to.id,
    });
    draft.step(step, format!("{} carries packets from {} to {}", network.name, host.name, to.name), &[set], Some("hosts"));
}

fn ask_gateway(draft: &mut Draft<'_>, host: &Host, network: &Network, set: usize) {
    if network.is_isolated() || network.gateways().next().is_none() {
        return;
    }
    let step = Step::Network(networks::Step::Gateway {
        network: network.id,
        host: host.id,
    });
    draft.step(step, format!("The gateway of {} answers {}", network.name, host.name), &[set], Some("hosts"));
}

/// The switch ports of a host that doesn't have the network yet.
fn carries(draft: &mut Draft<'_>, host: &Host, network: &Network) {
    let name = &host.name;
    // It told nothing of its uplinks yet.
    if host.seen == (0, 0) {
        return;
    }
    let missing: Vec<_> = network.uplinks.iter().filter(|u| host.uplinks.iter().all(|h| h.name != **u)).cloned().collect();
    if !missing.is_empty() {
        let text = format!("{name} has no uplink {}, which {} is on.", missing.join(", "), network.name);
        return draft.found(Finding::stop(Rule::Uplink, name, text).at("hosts"));
    }
    let finding = match network.wires(draft.estate(), host) {
        Standing::Unchecked(why) => {
            let text = format!("{} on {name}: {why}.", network.name);
            Finding::unchecked(Rule::Wire, name, text)
        }
        Standing::Wire(fault) => {
            let text = format!("{} on {name}: {fault}.", network.name);
            Finding::mind(Rule::Wire, name, text).remedy("Correct the switch port; it stands under Needs you until then.")
        }
        Standing::Fine | Standing::Missing | Standing::Differs(_) => {
            let text = format!("The switch ports of {name} carry {}.", network.name);
            Finding::clear(Rule::Wire, name, text)
        }
    };
    draft.found(finding);
}

fn mounts(draft: &mut Draft<'_>, cluster: &Cluster, host: &Host, volume: &Volume, joined: usize) {
    let name = &host.name;
    if volume.pooled.is_some() {
        let step = Step::Storage(storage::joins(draft, cluster, volume, host));
        let lent = draft.step(step, format!("{name} lends its free disks to {}", volume.name), &[joined], Some("hosts"));
        return mount(draft, host, volume, lent);
    }
    let Some(backing) = &volume.backing else {
        let text = format!("The array that {} lies on is not connected; whether {name} reaches it shows when it mounts it.", volume.name);
        draft.found(Finding::unchecked(Rule::Storage, &volume.name, text).at("hosts"));
        return mount(draft, host, volume, joined);
    };
    let map = Step::Storage(storage::Step::Map {
        array: backing.array,
        volume: volume.id,
        host: host.id,
    });
    let mapped = draft.step(map, format!("Let {name} reach {}", volume.name), &[joined], Some("hosts"));
    let log_in = Step::Storage(storage::Step::LogIn {
        array: backing.array,
        host: host.id,
    });
    let in_ = draft.step(log_in, format!("{name} logs in on all portals"), &[mapped], Some("hosts"));
    mount(draft, host, volume, in_);
}

fn mount(draft: &mut Draft<'_>, host: &Host, volume: &Volume, after: usize) {
    let name = &host.name;
    let step = Step::Storage(storage::Step::Mount {
        volume: volume.id,
        host: host.id,
    });
    let mounted = draft.step(step, format!("{name} mounts {}", volume.name), &[after], Some("hosts"));
    let step = Step::Storage(storage::Step::CheckPaths {
        volume: volume.id,
        host: host.id,
    });
    draft.step(step, format!("{name} reaches {} by all paths", volume.name), &[mounted], None);
}
