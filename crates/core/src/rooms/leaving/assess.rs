//! The checks and the plan of hosts that leave. Each room says what it would on an estate in which everything before it is done
//! already; what a host is cut off from waits until nothing on it needs it.

use super::{Draft, Event, Leave, Step};
use crate::{
    availability::Survival,
    estate::{Cluster, Estate, Fact, Host, Machine, MachineState, NetRole, Volume},
    finding::{Finding, Rule},
    ids::{ClusterId, HostId},
    pooled,
    road::Ask as _,
    rooms::{
        clusters, hosts, keepers, machines,
        maintenance::{self, Afterwards, Empty},
        moving, naming, networks, storage,
    },
    units::Bytes,
    view::View,
};
use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
};

pub(super) fn leave(draft: &mut Draft<'_>, ask: &Leave) {
    "Leave a cluster".clone_into(&mut draft.title);
    let chosen = draft.chosen(&ask.hosts).into_iter();
    let named: Vec<Arc<Host>> = chosen.filter_map(|id| draft.host(id)).cloned().collect();
    let Some(cluster) = cluster_of(draft, &named) else { return };
    draft.title = match named.as_slice() {
        [one] => format!("{} leaves {}", one.name, cluster.name),
        many => format!("{} hosts leave {}", many.len(), cluster.name),
    };
    let going: BTreeSet<HostId> = named.iter().map(|h| h.id).collect();
    let mut estate = (*draft.view.estate).clone();
    let empty = emptied(draft, ask, &mut estate);
    let last = estate.hosts_in(cluster.id).all(|h| going.contains(&h.id));
    if last {
        bare(draft, &cluster);
    } else {
        promises(draft, &estate, &cluster, &going);
    }
    if !last {
        own_disks(draft, &going);
    }
    let freed = keepers_move(draft, &mut estate, &going);
    let mut cut: BTreeMap<HostId, Vec<usize>> = BTreeMap::new();
    let unnamed = names_out(draft, &cluster, &named);
    for host in named.iter().filter(|h| h.accepts_work()) {
        let mut after: Vec<usize> = empty.get(&host.id).copied().into_iter().collect();
        after.extend(&freed);
        cut.insert(host.id, cut_off(draft, &cluster, host, &after));
    }
    for host in named.iter().filter(|h| !h.accepts_work()) {
        let expelled = expel(draft, host, &going);
        cut.insert(host.id, withdraw(draft, host, &expelled));
    }
    for (host, step) in unnamed {
        cut.entry(host).or_default().push(step);
    }
    let left = hand_back(draft, &estate, &going, &cut);
    if last {
        dissolve(draft, &cluster, left);
    }
}

/// With its last host a cluster goes: nothing may be left in it.
fn bare(draft: &mut Draft<'_>, cluster: &Cluster) {
    let name = &cluster.name;
    let machines = draft.estate().count_in(cluster.id);
    if machines > 0 {
        let text = format!("These are all hosts of {name}, and it has {machines} machines.");
        let stop = Finding::stop(Rule::State, name, text).at("hosts");
        draft.found(stop.remedy("Move its machines to another cluster or delete them for good, or leave a host in it."));
    }
    let volumes: Vec<String> = draft.estate().volumes_of(cluster).iter().map(|v| v.name.clone()).collect();
    if !volumes.is_empty() {
        let text = format!("These are all hosts of {name}; nobody would mount {}.", volumes.join(", "));
        let stop = Finding::stop(Rule::Storage, name, text).at("hosts");
        draft.found(stop.remedy("Hand back its volumes first: nothing on them is deleted."));
    }
    let text = format!("{name} is dissolved with its last host.");
    draft.found(Finding::mind(Rule::State, name, text).at("hosts"));
}

fn dissolve(draft: &mut Draft<'_>, cluster: &Cluster, mut left: Vec<usize>) {
    let networks: Vec<_> = draft.estate().networks_of(cluster.id).iter().map(|n| (n.id, n.name.clone())).collect();
    for (network, name) in networks {
        let step = Step::Network(networks::Step::Gone { network });
        left.push(draft.step(step, format!("{name} is no more"), &left.clone(), None));
    }
    let step = Step::Cluster(clusters::Step::Dissolve { cluster: cluster.id });
    draft.step(step, format!("{} is dissolved", cluster.name), &left, None);
}

/// The cluster that all of them leave.
fn cluster_of(draft: &mut Draft<'_>, named: &[Arc<Host>]) -> Option<Arc<Cluster>> {
    let stop = |rule, of: &str, text: String| Finding::stop(rule, of, text).at("hosts");
    let all: BTreeSet<Option<ClusterId>> = named.iter().map(|h| h.cluster).collect();
    let finding = match all.into_iter().collect::<Vec<_>>().as_slice() {
        [] => stop(Rule::Nothing, "hosts", "No host is selected.".into()),
        [Some(cluster)] => match draft.estate().clusters.get(cluster) {
            Some(cluster) => return Some(cluster.clone()),
            None => stop(Rule::Exists, "cluster", "Their cluster is gone.".into()),
        },
        [None] => {
            let name = named.first().map_or("", |h| h.name.as_str());
            let text = format!("{name} is in no cluster.");
            stop(Rule::State, name, text).remedy("Hand it back.")
        }
        _ => {
            let text = "They are of different clusters; take those of one at a time.".to_owned();
            stop(Rule::State, "hosts", text)
        }
    };
    draft.found(finding);
    None
}

/// Everything on them goes elsewhere; `estate` is as it is afterwards. Answers the step after which each is empty.
fn emptied(draft: &mut Draft<'_>, ask: &Leave, estate: &mut Estate) -> BTreeMap<HostId, usize> {
    let view = draft.view;
    let mut part = draft.beside::<maintenance::Step>(view);
    let empty = Empty {
        hosts: ask.hosts.clone(),
        reason: "leaves its cluster".into(),
        lasts: None,
        slow: ask.slow,
        force: ask.force,
        wire: ask.wire,
        stop: ask.stop,
        then: Afterwards::StaysOn,
    };
    maintenance::Ask::Empty(empty).assess(&mut part);
    // Its keepers move in the same run.
    part.leave_out(|f| !matches!(f.rule, Rule::Keepers | Rule::Pool) || f.stops());
    part.in_estate(estate);
    for step in part.planned() {
        arrives(estate, step);
    }
    let kinds: Vec<maintenance::Step> = part.planned().cloned().collect();
    let title = std::mem::take(&mut draft.title);
    let steps = draft.take_in(part, &[], |f| f, (step_of, event_of));
    draft.title = title;
    let empty = kinds.iter().zip(steps).filter_map(|(kind, at)| match kind {
        maintenance::Step::Host(hosts::Step::Vacate { host }) => Some((*host, at)),
        maintenance::Step::Host(_) | maintenance::Step::Move(_) | maintenance::Step::Machine(_) => None,
    });
    empty.collect()
}

fn step_of(step: maintenance::Step) -> Step {
    match step {
        maintenance::Step::Host(step) => Step::Host(step),
        maintenance::Step::Move(step) => Step::Move(step),
        maintenance::Step::Machine(step) => Step::Machine(step),
    }
}

fn event_of(event: maintenance::Event) -> Event {
    match event {
        maintenance::Event::Host(event) => Event::Host(event),
        maintenance::Event::Move(event) => Event::Move(event),
        maintenance::Event::Machine(event) => Event::Machine(event),
    }
}

/// A machine once its step is done.
fn arrives(estate: &mut Estate, step: &maintenance::Step) {
    let (id, host) = match step {
        maintenance::Step::Move(moving::Step::Move { machine, to, .. }) => (*machine, Some(*to)),
        maintenance::Step::Machine(machines::Step::AwaitOff { machine, .. } | machines::Step::Off { machine }) => (*machine, None),
        maintenance::Step::Move(_) | maintenance::Step::Machine(_) | maintenance::Step::Host(_) => return,
    };
    let Some(machine) = estate.machines.get(&id).cloned() else { return };
    let mut then = Machine::clone(&machine);
    (then.host, then.arriving) = (host, None);
    if host.is_none() {
        then.state = MachineState::Off;
    }
    estate.put(Fact::Machine(then.into()));
}

/// What the cluster promises its machines holds without them.
fn promises(draft: &mut Draft<'_>, estate: &Estate, cluster: &Cluster, going: &BTreeSet<HostId>) {
    if !cluster.demand.asks() {
        return;
    }
    let mut less = cluster.clone();
    less.hosts.retain(|h| !going.contains(h));
    let mut then = estate.clone();
    then.put(Fact::Cluster(less.clone().into()));
    let then = draft.view.with(then);
    let (before, after) = (Survival::of(draft.view, cluster), Survival::of(&then, &less));
    if !before.meets(cluster) || after.meets(&less) {
        return;
    }
    let text = format!("{} {} then; today: {}.", cluster.name, after.sentence_of(&less), before.sentence_of(cluster));
    let stop = Finding::stop(Rule::Headroom, &cluster.name, text).at("hosts");
    draft.found(stop.remedy("Take another host in first, make machines smaller, or ask less of the cluster in its sheet."));
}

/// What they lend to volumes of the hosts' own disks finds room on those that stay.
fn own_disks(draft: &mut Draft<'_>, going: &BTreeSet<HostId>) {
    let found = draft.estate().pools_of(going).into_iter().map(|(volume, lent)| {
        let name = &volume.name;
        if let Some(why) = pooled::keeps(volume, lent, going) {
            return Finding::stop(Rule::Pool, name, why).at("hosts").remedy("Take other hosts with free disks in first, or remove what is on it.");
        }
        let held: Bytes = lent.members.iter().filter(|(h, _)| going.contains(h)).map(|(_, s)| s.held).sum();
        Finding::mind(Rule::Pool, name, format!("{held} of {name} are copied to the hosts that stay before their disks are given back.")).at("hosts")
    });
    let found: Vec<Finding> = found.collect();
    draft.found_all(found);
}

/// Their names lead nowhere any more. Answers the step of each.
fn names_out(draft: &mut Draft<'_>, cluster: &Cluster, named: &[Arc<Host>]) -> Vec<(HostId, usize)> {
    let entered = named.iter().filter(|h| h.entered.is_some() && cluster.dns.is_some());
    let out = |host: &Arc<Host>| {
        let step = Step::Name(naming::Step::WithdrawHost { cluster: cluster.id, host: host.id });
        (host.id, draft.step(step, format!("Take the name of {} out", host.name), &[], None))
    };
    entered.map(out).collect()
}

/// One that does not answer can't give its disks back: the others go on without it, if they have everything.
fn expel(draft: &mut Draft<'_>, host: &Host, going: &BTreeSet<HostId>) -> Vec<usize> {
    let lends: Vec<Arc<Volume>> = draft.estate().volumes.values().filter(|v| v.pooled.as_ref().is_some_and(|p| p.members.contains_key(&host.id))).cloned().collect();
    let mut last = Vec::new();
    for volume in lends {
        let stays = volume.hosts(draft.estate()).into_iter().find(|h| h.accepts_work() && !going.contains(&h.id)).cloned();
        let Some(via) = stays else { continue };
        let step = Step::Storage(storage::Step::Expel { volume: volume.id, host: via.id, gone: host.id });
        last.push(draft.step(step, format!("{} goes on without the disks of {}", volume.name, host.name), &[], Some("hosts")));
    }
    last
}

/// Keepers that run on them are placed on others. Answers the last steps of that.
fn keepers_move(draft: &mut Draft<'_>, estate: &mut Estate, going: &BTreeSet<HostId>) -> Vec<usize> {
    let kept = |c: &&Arc<Cluster>| c.keeping.as_ref().is_some_and(|k| !k.hosts.is_disjoint(going));
    let clusters: Vec<Arc<Cluster>> = estate.clusters.values().filter(kept).cloned().collect();
    let mut last = Vec::new();
    for cluster in clusters {
        let volume = keepers::quorum(estate, &cluster);
        let hosts = volume.map_or_else(Vec::new, |v| keepers::choose(estate, &cluster, v));
        let rest = estate.hosts_in(cluster.id).any(|h| !going.contains(&h.id));
        if hosts.is_empty() && rest {
            let text = format!("No other host can keep {}: none that stays reaches the volume on which its keepers agree.", cluster.name);
            draft.found(Finding::stop(Rule::Keepers, &cluster.name, text).at("hosts"));
            continue;
        }
        let view = draft.view.with(estate.clone());
        let mut part = draft.beside::<keepers::Step>(&view);
        let place = keepers::Place {
            cluster: cluster.id,
            hosts: hosts.clone(),
        };
        keepers::Ask::Place(place).assess(&mut part);
        let title = std::mem::take(&mut draft.title);
        last.extend(draft.take_in(part, &[], |f| f, (Step::Keeper, Event::Keeper)));
        draft.title = title;
        let mut then = Cluster::clone(&cluster);
        if let Some(keeping) = &mut then.keeping {
            keeping.hosts = hosts.into_iter().collect();
        }
        estate.put(Fact::Cluster(then.into()));
    }
    last
}

/// Volumes and networks are taken off it, but the one over which it is told. Answers the last steps of that.
fn cut_off(draft: &mut Draft<'_>, cluster: &Cluster, host: &Host, after: &[usize]) -> Vec<usize> {
    let mut unmounted: Vec<usize> = Vec::new();
    for volume in host.mounts.keys() {
        let Some(volume) = draft.estate().volumes.get(volume).cloned() else { continue };
        let lends = volume.pooled.as_ref().is_some_and(|p| p.members.contains_key(&host.id));
        let step = Step::Storage(storage::Step::Unmount { volume: volume.id, host: host.id });
        let step = draft.step(step, format!("{} unmounts {}", host.name, volume.name), after, None);
        unmounted.push(match lends {
            true => {
                let back = Step::Storage(storage::Step::GiveBack { volume: volume.id, host: host.id });
                draft.step(back, format!("What {} holds of {} is copied, its disks are given back", host.name, volume.name), &[step], None)
            }
            false => step,
        });
    }
    let before: Vec<usize> = if unmounted.is_empty() { after.to_vec() } else { unmounted };
    let mut last = withdraw(draft, host, &before);
    for network in draft.estate().networks_of(cluster.id) {
        if network.role == NetRole::Management || !host.networks.contains_key(&network.name) {
            continue;
        }
        let step = Step::Network(networks::Step::Drop { network: network.id, host: host.id });
        last.push(draft.step(step, format!("Take {} off {}", network.name, host.name), &before, None));
    }
    if last.is_empty() { before } else { last }
}

/// Nothing on an array lets it in any more.
fn withdraw(draft: &mut Draft<'_>, host: &Host, after: &[usize]) -> Vec<usize> {
    let volumes = draft.estate().volumes.values();
    let backed = volumes.filter_map(|v| Some((v.clone(), v.backing.as_ref()?.array)));
    let theirs = backed.filter(|(v, _)| host.mounts.contains_key(&v.id) || v.hosts(draft.estate()).iter().any(|h| h.id == host.id));
    let all: Vec<_> = theirs.collect();
    let mut last = Vec::new();
    for (volume, array) in all {
        let step = Step::Storage(storage::Step::Unmap {
            array,
            volume: volume.id,
            host: host.id,
        });
        last.push(draft.step(step, format!("{} can't reach {} any more", host.name, volume.name), after, None));
    }
    last
}

/// It leaves, and is given up.
fn hand_back(draft: &mut Draft<'_>, estate: &Estate, going: &BTreeSet<HostId>, cut: &BTreeMap<HostId, Vec<usize>>) -> Vec<usize> {
    let view: View = draft.view.with(estate.clone());
    let mut part = draft.beside::<hosts::Step>(&view);
    let hosts = going.iter().copied().collect();
    hosts::Ask::HandBack { hosts }.assess(&mut part);
    // That nothing is on them then was said already.
    part.leave_out(|f| !matches!(f.rule, Rule::State | Rule::Name) || f.stops());
    let waits = |step: &hosts::Step, first: bool| match cut.get(&step.host()) {
        Some(cut) if first => cut.clone(),
        Some(_) | None => vec![],
    };
    let title = std::mem::take(&mut draft.title);
    let steps = draft.take_in_by(part, waits, |f| f, (Step::Host, Event::Host));
    draft.title = title;
    steps.collect()
}
