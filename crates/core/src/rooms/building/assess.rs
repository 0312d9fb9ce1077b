//! The checks and the plan of a whole cluster. Each room says what it would on an estate in which everything before it is done
//! already; each of its steps waits for what it needs of its own host, so that one host that is late holds up no other.

use super::{Build, Draft, Event, Step, expand};
use crate::{
    estate::{Cluster, Condition, Estate, Fact, Host, NetRole, Path, Volume},
    finding::{Finding, Rule},
    ids::{ClusterId, HostId},
    road::Ask as _,
    rooms::{
        clusters::{self, CreateCluster},
        hosts,
        installing::{self, BareHost},
        keepers,
        naming::{self, NewName},
        networks::{self, CreateNetwork},
        storage::{self, ConnectVolume},
    },
    view::View,
};
use std::{collections::BTreeMap, sync::Arc};

/// The steps after which each host is so far.
pub(super) type After = BTreeMap<HostId, usize>;

pub(super) fn build(draft: &mut Draft<'_>, ask: &Build) {
    let name = ask.name.trim();
    let mut part = draft.beside::<installing::Step>(draft.view);
    let new = installing::install(&mut part, &ask.install);
    // One that can't be installed would be missing in everything behind it.
    let whole = !new.is_empty() && new.len() == ask.install.hosts.len();
    let mut estate = (*draft.view.estate).clone();
    part.in_estate(&mut estate);
    // The hosts' own addresses are those of the network for management: what is wrong with them is mended in its row.
    let row = ask.networks.iter().position(|n| n.role == NetRole::Management);
    let say = |f: Finding| match (f.field.clone(), row) {
        (Some(field), Some(row)) if matches!(field.as_str(), "subnet" | "gateway" | "vlan") => f.at(&format!("{field}:{row}")),
        _ => f,
    };
    let steps = draft.take_in(part, &[], say, (Step::Bare, Event::Bare));
    draft.title = format!("Build cluster {name} of {} hosts", ask.install.hosts.len());
    let ours: After = new.iter().map(|n| (n.host.id, steps.start + n.last)).collect();
    let hosts: Vec<Host> = new.into_iter().map(|n| will_be(n.host)).collect();
    hosts.iter().for_each(|h| estate.put(Fact::Host(h.clone().into())));
    if let Some(cluster) = ask.into {
        return expand::expand(draft, ask, cluster, &estate, &hosts, &ours);
    }
    management(draft, ask);
    let Some((cluster, joined, ready)) = cluster(draft, ask, &mut estate, &hosts, &ours) else {
        return;
    };
    if let Some(like) = ask.names {
        names(draft, (like, &ask.install.hosts), &estate, (cluster, &hosts), ready);
    }
    let mut unknown = Vec::new();
    for (i, network) in ask.networks.iter().enumerate() {
        if one_network(draft, (i, network), &mut estate, cluster, &joined) {
            unknown.push(network.name.as_str());
        }
    }
    if !unknown.is_empty() {
        let text = format!("Where the cables of the hosts lead shows once they are installed; whether the switches carry {} is not known before.", unknown.join(", "));
        draft.found(Finding::unchecked(Rule::Wire, "switch ports", text));
    }
    if !whole {
        return;
    }
    let connected = ask.volume.as_ref().and_then(|volume| connect(draft, volume, &mut estate, cluster, &joined));
    if ask.volume.is_none() {
        let text = format!("{name} gets no volume; machines need one.");
        draft.found(Finding::mind(Rule::Storage, "volume", text).at("array").remedy("Choose an array, or connect a volume afterwards."));
    }
    let whole = match ask.fencing {
        true => try_fencing(draft, &hosts),
        false => vec![ready],
    };
    if ask.keepers {
        place_keepers(draft, &estate, cluster, connected, &whole);
    }
}

/// Names in DNS, where another cluster has them; kept once the cluster is ready.
fn names(draft: &mut Draft<'_>, (like, rows): (ClusterId, &[BareHost]), estate: &Estate, (cluster, hosts): (ClusterId, &[Host]), ready: usize) {
    let Some(like) = draft.estate().clusters.get(&like).cloned() else {
        let text = "The cluster whose zone was chosen is gone.";
        return draft.found(Finding::stop(Rule::Exists, "names", text).at("names"));
    };
    let view = future(draft.view, estate);
    let mut part = draft.beside::<naming::Step>(&view);
    let hosts: Vec<_> = hosts.iter().map(|h| (h.id, h.name.clone())).collect();
    naming::same(&mut part, cluster, &like, &hosts);
    free_names(&mut part, &like, rows);
    let waits = |step: &naming::Step, _: bool| match step {
        naming::Step::Keep { .. } => vec![ready],
        naming::Step::Try { .. } | naming::Step::Bring { .. } | naming::Step::Withdraw { .. } | naming::Step::BringHost { .. } | naming::Step::WithdrawHost { .. } | naming::Step::AskFrom { .. } => vec![],
    };
    let say = |f: Finding| match f.field.as_deref() {
        Some("servers") => f.at("names"),
        Some(_) | None => f,
    };
    draft.take_in_by(part, waits, say, (Step::Name, Event::Name));
}

/// Whether somebody else has the names that the rows have, where a cluster has its names.
pub(super) fn free_names(draft: &mut crate::road::Draft<'_, naming::Step>, like: &Cluster, rows: &[BareHost]) {
    let Some(dns) = like.dns.as_deref() else { return };
    let new = |row: &BareHost| {
        let name = crate::names::check(row.name.trim()).ok().map(|()| dns.name_of(row.name.trim()))?;
        Some(NewName { name, address: row.address.trim().parse().ok()?, fields: (row.field("name"), row.field("address")) })
    };
    let all: Vec<NewName> = rows.iter().filter_map(new).collect();
    naming::free(draft, dns, &all);
}

/// Each new host is switched off and on by its controller once nothing of the run is done at it any more, and before it has
/// anything to lose. Answers the last step of each.
pub(super) fn try_fencing(draft: &mut Draft<'_>, hosts: &[Host]) -> Vec<usize> {
    let all: Vec<usize> = (0..draft.planned().count()).collect();
    let last = |host: &Host| {
        let mut part = draft.beside::<hosts::Step>(draft.view);
        hosts::proves(&mut part, host);
        part.leave_out(|_| false);
        draft.take_in(part, &all, |f| f, (Step::Host, Event::Host)).end - 1
    };
    let ends: Vec<usize> = hosts.iter().map(last).collect();
    let text = "Each new host is switched off and on once by its controller, so that it is known that fencing works.";
    draft.found(Finding::clear(Rule::Bmc, "fencing", text));
    ends
}

/// A host once it is installed and taken over.
fn will_be(host: Host) -> Host {
    Host {
        condition: Condition::Steady,
        ..host
    }
}

fn future(view: &View, estate: &Estate) -> View {
    view.with(estate.clone())
}

/// The network in which the hosts' own addresses lie is one of the cluster's, with the same VLAN.
fn management(draft: &mut Draft<'_>, ask: &Build) {
    let mut all = ask.networks.iter().enumerate();
    let Some((i, network)) = all.find(|(_, n)| n.role == NetRole::Management) else {
        let text = "No network is for management; the hosts' own addresses need one.";
        return draft.found(Finding::stop(Rule::Subnet, "management", text).at("networks"));
    };
    if network.vlan != ask.install.vlan {
        let word = |vlan: Option<u16>| vlan.map_or_else(|| "untagged".to_owned(), |v| format!("VLAN {v}"));
        let text = format!("{} is {}; the hosts are installed with {}.", network.name, word(network.vlan), word(ask.install.vlan));
        draft.found(Finding::stop(Rule::Vlan, &network.name, text).at(&format!("vlan:{i}")));
    }
}

/// The cluster, the step with which each host has joined, and that with which it is ready.
fn cluster(
    draft: &mut Draft<'_>,
    ask: &Build,
    estate: &mut Estate,
    hosts: &[Host],
    ours: &After,
) -> Option<(ClusterId, After, usize)> {
    let view = future(draft.view, estate);
    let mut part = draft.beside::<clusters::Step>(&view);
    let create = CreateCluster {
        name: ask.name.clone(),
        hosts: hosts.iter().map(|h| h.id).collect(),
        level: ask.level,
        volume: None,
        demand: ask.demand,
        kind: ask.kind,
        time: sources(ask),
    };
    clusters::check_name(&mut part, &create);
    let unknown: Vec<&str> = hosts.iter().filter(|h| h.hardware.cpu.maker.is_empty()).map(|h| h.name.as_str()).collect();
    if !unknown.is_empty() {
        let text = format!("Nothing is known of the CPU level of {} before it is installed.", unknown.join(", "));
        let unchecked = Finding::unchecked(Rule::CpuLevel, "CPU level", text);
        draft.found(match ask.level {
            Some(level) => unchecked.because(format!("each is asked before it joins; one below {level} does not")),
            None => Finding::stop(Rule::CpuLevel, "CPU level", "Choose the CPU level: no host of this model is known here.").at("level"),
        });
    }
    let arcs: Vec<Arc<Host>> = hosts.iter().cloned().map(Arc::new).collect();
    if !arcs.is_empty() {
        clusters::of_hosts(&mut part, &create, &arcs, None);
    }
    // What clock and controller say of hosts that are not there yet; the run asks them.
    let asked_later = |f: &Finding| matches!(f.rule, Rule::Clock | Rule::Bmc) && !f.stops();
    let guessed = |f: &Finding| f.rule == Rule::CpuLevel && !unknown.is_empty();
    part.leave_out(|f| !asked_later(f) && !guessed(f));
    part.in_estate(estate);
    let kinds: Vec<clusters::Step> = part.planned().cloned().collect();
    let right = clocks(draft, ask, hosts, ours);
    let waits = |step: &clusters::Step, _: bool| match step {
        clusters::Step::Verify { host, near } => [Some(host), near.as_ref()].into_iter().flatten().filter_map(|h| ours.get(h)).copied().collect(),
        clusters::Step::Join { host, .. } => right.get(host).or(ours.get(host)).copied().into_iter().collect(),
        clusters::Step::Clock { .. } | clusters::Step::Ready { .. } | clusters::Step::Dissolve { .. } => vec![],
    };
    let steps = draft.take_in_by(part, waits, |f| f, (Step::Cluster, Event::Cluster));
    let mut id = None;
    let mut joined = After::new();
    for (kind, at) in kinds.iter().zip(steps.clone()) {
        if let clusters::Step::Join { host, cluster, .. } = kind {
            id = Some(*cluster);
            joined.insert(*host, at);
        }
    }
    let id = id?;
    for host in hosts {
        let member = Host { cluster: Some(id), ..host.clone() };
        estate.put(Fact::Host(member.into()));
    }
    if let Some(cluster) = estate.clusters.get(&id).cloned() {
        let mut cluster = (*cluster).clone();
        cluster.hosts = hosts.iter().map(|h| h.id).collect();
        cluster.ready = true;
        estate.put(Fact::Cluster(cluster.into()));
    }
    Some((id, joined, steps.end.saturating_sub(1)))
}

/// Those that can be asked.
fn sources(ask: &Build) -> Vec<String> {
    ask.install.time.iter().filter_map(|t| installing::at_source(t)).collect()
}

/// Whoever tells them the time has told it right, before they join. Answers the step of each.
pub(super) fn clocks(draft: &mut Draft<'_>, ask: &Build, hosts: &[Host], ours: &After) -> After {
    if ask.install.time.is_empty() {
        return After::new();
    }
    let step = |host: &Host| {
        let after: Vec<usize> = ours.get(&host.id).copied().into_iter().collect();
        let step = Step::Cluster(clusters::Step::Clock { host: host.id });
        let title = format!("The clock of {} is right", host.name);
        (host.id, draft.step(step, title, &after, Some("time")))
    };
    hosts.iter().map(step).collect()
}

/// Answers whether its switch ports can't be looked at yet.
fn one_network(
    draft: &mut Draft<'_>,
    (i, network): (usize, &CreateNetwork),
    estate: &mut Estate,
    cluster: ClusterId,
    joined: &After,
) -> bool {
    let view = future(draft.view, estate);
    let mut part = draft.beside::<networks::Step>(&view);
    let create = CreateNetwork {
        cluster: Some(cluster),
        ..network.clone()
    };
    networks::create(&mut part, &create, true);
    let hidden = part.leave_out(|f| f.rule != Rule::Wire || f.stops());
    part.in_estate(estate);
    let waits = |step: &networks::Step, _: bool| match step {
        networks::Step::Set { host, .. } => joined.get(host).copied().into_iter().collect(),
        networks::Step::ReadSwitch { .. } | networks::Step::Try { .. } | networks::Step::Gateway { .. } | networks::Step::Drop { .. } | networks::Step::Ready { .. } | networks::Step::Gone { .. } => vec![],
    };
    let say = |f: Finding| match f.field.clone() {
        Some(field) => f.at(&format!("{field}:{i}")),
        None => f,
    };
    let title = std::mem::take(&mut draft.title);
    draft.take_in_by(part, waits, say, (Step::Network, Event::Network));
    draft.title = title;
    hidden > 0
}

/// The volume, on all hosts. Answers the last step of it.
fn connect(draft: &mut Draft<'_>, volume: &ConnectVolume, estate: &mut Estate, cluster: ClusterId, joined: &After) -> Option<usize> {
    let view = future(draft.view, estate);
    let mut part = draft.beside::<storage::Step>(&view);
    let ask = ConnectVolume {
        cluster: Some(cluster),
        hosts: None,
        ..volume.clone()
    };
    storage::Ask::ConnectVolume(ask).assess(&mut part);
    part.in_estate(estate);
    let stopped = part.is_stopped();
    let waits = |step: &storage::Step, _: bool| step.host().and_then(|host| joined.get(&host)).copied().into_iter().collect();
    let say = |f: Finding| match f.field.as_deref() {
        Some("name") => f.at("volume"),
        Some(_) | None => f,
    };
    let steps = draft.take_in_by(part, waits, say, (Step::Storage, Event::Storage));
    // As it will be mounted.
    let made = estate.volumes.values().find(|v| v.cluster == Some(cluster)).cloned();
    if let Some(made) = made {
        estate.put(Fact::Volume(Volume { ready: true, ..(*made).clone() }.into()));
        let hosts: Vec<Arc<Host>> = estate.hosts_in(cluster).cloned().collect();
        for host in hosts {
            let mut host = (*host).clone();
            let path = Path { portal: String::new(), uplink: String::new(), up: true };
            host.mounts.insert(made.id, vec![path]);
            estate.put(Fact::Host(host.into()));
        }
    }
    (!stopped && !steps.is_empty()).then(|| steps.end - 1)
}

fn place_keepers(draft: &mut Draft<'_>, estate: &Estate, cluster: ClusterId, connected: Option<usize>, whole: &[usize]) {
    let view = future(draft.view, estate);
    let found = view.estate.clusters.get(&cluster).cloned();
    let chosen = found.and_then(|c| {
        let volume = keepers::quorum(&view.estate, &c)?;
        Some(keepers::choose(&view.estate, &c, volume))
    });
    let (Some(hosts), Some(connected)) = (chosen, connected) else {
        let text = "Keepers agree on a volume; without one the manager alone brings machines back.";
        return draft.found(Finding::mind(Rule::Keepers, "keepers", text).at("keepers"));
    };
    let mut part = draft.beside::<keepers::Step>(&view);
    keepers::Ask::Place(keepers::Place { cluster, hosts }).assess(&mut part);
    let say = |f: Finding| f.at("keepers");
    let after: Vec<usize> = whole.iter().copied().chain([connected]).collect();
    draft.take_in(part, &after, say, (Step::Keeper, Event::Keeper));
}

