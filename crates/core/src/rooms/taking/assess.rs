//! The checks and the plan of a cluster that is taken over. Each room says what it would on an estate in which everything before it
//! is done already.

use super::{Draft, Event, Kind, Plan, Step, TakeOver, Verdict, plan::{Taken, TakenNetwork, TakenVolume, plan}};
use crate::{
    endpoint::{Endpoint, Password},
    estate::{ClusterKind, Condition, Demand, Estate, Fact, Host},
    finding::{Finding, Rule},
    ids::{ClusterId, HostId, SecretRef, SiteId},
    limits,
    rooms::{
        clusters::{self, CreateCluster},
        hosts::{self, Take},
        networks, storage,
    },
};
use std::{collections::BTreeMap, sync::Arc};

/// Joined with this step.
type After = BTreeMap<HostId, usize>;

pub(super) fn take_over(draft: &mut Draft<'_>, ask: &TakeOver) {
    let name = ask.name.trim();
    draft.title = format!("Take over cluster {name}");
    if ask.hosts.is_empty() {
        return draft.found(Finding::stop(Rule::Nothing, "hosts", "No host is chosen.").at("hosts"));
    }
    if let Err(words) = limits::DEVICES.check(ask.hosts.len()) {
        draft.found(Finding::stop(Rule::Count, "hosts", words).at("hosts"));
    }
    let site = draft.site(&ask.site);
    let plan = plan(draft.view, draft.now, ask);
    unread(draft, ask, &plan);
    objects(draft, &plan);
    former(draft, ask, &plan);
    if let (Some(site), Password::Kept(password), true) = (site, ask.password, !plan.hosts.is_empty()) {
        steps(draft, ask, &plan, site, password);
    }
}

fn unread(draft: &mut Draft<'_>, ask: &TakeOver, plan: &Plan) {
    if ask.password == Password::Missing {
        let text = "Type the hosts' own password and read them: reading changes nothing.";
        return draft.found(Finding::stop(Rule::Password, "password", text).at("password"));
    }
    for (address, words) in &plan.unread {
        let stop = Finding::stop(Rule::Reachable, address, words.clone()).at("hosts");
        draft.found(stop.remedy("Read them again, or leave this host out if it is not of this cluster."));
    }
}

/// What becomes of what: a finding for each object that is not simply taken as it is, and one for all that are.
fn objects(draft: &mut Draft<'_>, plan: &Plan) {
    for line in &plan.lines {
        let name = &line.name;
        let what = if line.kind == Kind::Other { name.clone() } else { format!("{name} ({})", line.kind.word()) };
        let text = format!("{what}: {}.", line.words);
        let (rule, finding) = match line.verdict {
            Verdict::AsItIs => continue,
            Verdict::Renamed => (Rule::Name, Finding::mind as fn(_, _, _) -> _),
            Verdict::Differs => (Rule::Drift, Finding::mind as fn(_, _, _) -> _),
            Verdict::Conflicts { stops: true } => (Rule::Owner, Finding::stop as fn(_, _, _) -> _),
            Verdict::Conflicts { stops: false } => (Rule::Address, Finding::mind as fn(_, _, _) -> _),
            Verdict::Unknown => (Rule::State, Finding::mind as fn(_, _, _) -> _),
        };
        let found: Finding = finding(rule, name.clone(), text);
        draft.found(found.at("hosts"));
    }
    let as_they_are = plan.count(|v| v == Verdict::AsItIs);
    if !as_they_are.is_empty() {
        let counted: Vec<String> = as_they_are.into_iter().map(|(kind, n): (Kind, usize)| kind.counted(n)).collect();
        let text = format!("Taken as they are: {}.", counted.join(", "));
        draft.found(Finding::clear(Rule::State, "what there is", text));
    }
}

/// Ownership changes only once whoever had it is silent, and with its name typed.
fn former(draft: &mut Draft<'_>, ask: &TakeOver, plan: &Plan) {
    let Some(owner) = plan.hosts.first().map(|h| h.former.name.clone()) else { return };
    if ask.former.trim() != owner {
        let text = format!("These hosts belong to {owner}.");
        let stop = Finding::stop(Rule::Owner, &owner, text).at("former");
        draft.found(stop.remedy("Type its name to take them over from it."));
    }
    let mut quiet = None;
    for taken in &plan.hosts {
        let host = &taken.greeting.name;
        match taken.former.is_gone() {
            Err(words) => {
                let stop = Finding::stop(Rule::Owner, host, format!("{words} ({host}).")).at("former");
                draft.found(stop.remedy(format!("Switch {owner} and its automation off; once no order of it was seen for 10 minutes, read the hosts again.")));
            }
            Ok(()) => quiet = quiet.min(Some(taken.former.silent)).or(Some(taken.former.silent)),
        }
    }
    if let Some(quiet) = quiet {
        let text = format!("{owner} has given no order for {quiet}, and its automation is off.");
        draft.found(Finding::clear(Rule::Owner, &owner, text).because("each host is asked once more before the first changes its owner"));
    }
}

fn steps(draft: &mut Draft<'_>, ask: &TakeOver, plan: &Plan, site: SiteId, password: SecretRef) {
    let mut estate = (*draft.view.estate).clone();
    let mut part = draft.beside::<hosts::Step>(draft.view);
    let all: Vec<Take<'_>> = plan.hosts.iter().map(|t| one(t, site, password)).collect();
    let taken = hosts::take(&mut part, &all);
    part.in_estate(&mut estate);
    let steps = draft.take_in(part, &[], |f| f, (Step::Host, Event::Host));
    let ours: After = taken.iter().map(|(h, at)| (h.id, steps.start + at)).collect();
    let hosts: Vec<Host> = taken.into_iter().map(|(h, _)| Host { condition: Condition::Steady, ..h }).collect();
    hosts.iter().for_each(|h| estate.put(Fact::Host(h.clone().into())));
    let Some((cluster, joined, ready)) = cluster(draft, ask, &mut estate, &hosts, &ours) else { return };
    let mut last: Vec<usize> = joined.values().copied().collect();
    last.push(ready);
    for network in &plan.networks {
        last.push(one_network(draft, &estate, cluster, network, &joined));
    }
    for volume in &plan.volumes {
        last.extend(one_volume(draft, &estate, cluster, volume, &hosts, &joined));
    }
    let mut part = draft.beside::<hosts::Step>(draft.view);
    for (host, taken) in hosts.iter().zip(&plan.hosts) {
        hosts::ran_on(&mut part, host, (taken.read, &taken.up), &[]);
    }
    draft.take_in_by(part, |_, _| last.clone(), |f| f, (Step::Host, Event::Host));
}

fn one(taken: &Taken, site: SiteId, password: SecretRef) -> Take<'_> {
    Take {
        target: Endpoint {
            address: (&taken.address).into(),
            pin: (&taken.pin).into(),
        },
        greeting: &taken.greeting,
        former: &taken.former,
        password,
        site,
    }
}

/// The cluster, the step with which each host has joined, and that with which it is ready.
fn cluster(draft: &mut Draft<'_>, ask: &TakeOver, estate: &mut Estate, hosts: &[Host], ours: &After) -> Option<(ClusterId, After, usize)> {
    let view = draft.view.with(estate.clone());
    let mut part = draft.beside::<clusters::Step>(&view);
    let create = CreateCluster {
        name: ask.name.clone(),
        hosts: hosts.iter().map(|h| h.id).collect(),
        level: None,
        volume: None,
        demand: Demand {
            failures: 0,
            domains: [false; 3],
            enforced: false,
        },
        kind: if hosts.len() == 2 { ClusterKind::TwoHosts } else { ClusterKind::OneSite },
        time: vec![],
    };
    clusters::check_name(&mut part, &create);
    let arcs: Vec<Arc<Host>> = hosts.iter().cloned().map(Arc::new).collect();
    clusters::of_hosts(&mut part, &create, &arcs, None);
    // What clock and controller say can be asked only once they are ours; the run asks them.
    part.leave_out(|f| !matches!(f.rule, Rule::Clock | Rule::Bmc) || f.stops());
    part.in_estate(estate);
    let kinds: Vec<clusters::Step> = part.planned().cloned().collect();
    let waits = |step: &clusters::Step, _: bool| match step {
        clusters::Step::Verify { host, .. } | clusters::Step::Join { host, .. } => ours.get(host).copied().into_iter().collect(),
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
    Some((id?, joined, steps.end.saturating_sub(1)))
}

/// It is there: from now on it shall be so.
fn one_network(draft: &mut Draft<'_>, estate: &Estate, cluster: ClusterId, network: &TakenNetwork, joined: &After) -> usize {
    let view = draft.view.with(estate.clone());
    let mut part = draft.beside::<networks::Step>(&view);
    networks::take(&mut part, cluster, (&network.name, network.role, &network.net));
    let after: Vec<usize> = joined.values().copied().collect();
    draft.take_in(part, &after, |f| f, (Step::Network, Event::Network)).start
}

/// Its owner changes by the first host that mounts it; then each that does says so. Answers those steps.
fn one_volume(draft: &mut Draft<'_>, estate: &Estate, cluster: ClusterId, volume: &TakenVolume, hosts: &[Host], joined: &After) -> Vec<usize> {
    let view = draft.view.with(estate.clone());
    let mut part = draft.beside::<storage::Step>(&view);
    let on: Vec<&Host> = hosts.iter().filter(|h| volume.on.contains(&h.name)).collect();
    let everywhere = on.len() == hosts.len();
    let taken = storage::Taken {
        name: &volume.name,
        seen: &volume.seen,
        over: volume.owner.clone(),
        cluster,
        everywhere,
    };
    storage::take(&mut part, &taken, &on);
    let waits = |step: &storage::Step, _: bool| step.host().and_then(|h| joined.get(&h)).copied().into_iter().collect();
    draft.take_in_by(part, waits, |f| f, (Step::Storage, Event::Storage)).collect()
}
