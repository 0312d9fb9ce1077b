//! Plain edits: one proposal for names, notes, labels, tiers and sizes.

use super::{Draft, Event, Set, Step, Target, grown, live};
use std::collections::BTreeMap;
use crate::{
    addressing::usable,
    availability::broken,
    booting,
    estate::{ClusterKind, Fact, Machine, MachineState, PlaceRule, RuleKind},
    finding::{Finding, Rule},
    ids::{HostId, MachineId},
    limits,
    names,
    units::Bytes,
};

pub(crate) fn edit(draft: &mut Draft<'_>, targets: &[Target], sets: &[Set]) {
    if targets.is_empty() {
        return draft.found(Finding::stop(
            Rule::Nothing,
            "selection",
            "Nothing is selected.",
        ));
    }
    if sets.is_empty() {
        return draft.found(Finding::stop(
            Rule::Nothing,
            "fields",
            "Nothing is changed yet.",
        ));
    }
    let targets = &*draft.chosen(targets);
    if targets.is_empty() {
        return;
    }
    draft.title = match targets {
        [one] => format!("Edit {}", one.name(draft.estate())),
        many => format!("Edit {} machines", many.len()),
    };
    for set in sets {
        check(draft, targets, set);
        if let Set::Rules(rules) = set {
            newly_broken(draft, targets, rules);
        }
    }
    for target in targets {
        match target {
            Target::Machine(id) => {
                if let Some(machine) = draft.machine(*id).cloned() {
                    edit_machine(draft, &machine, sets);
                }
            }
            Target::Host(id) => {
                let labels = draft.host(*id).map(|h| h.labels.clone());
                check_labels(draft, labels.unwrap_or_default(), sets);
            }
            Target::Cluster(id) if !draft.estate().clusters.contains_key(id) => {
                draft.found(Finding::stop(
                    Rule::Exists,
                    id.to_string(),
                    "This cluster is gone.",
                ));
            }
            Target::Volume(id) if !draft.estate().volumes.contains_key(id) => {
                draft.found(Finding::stop(
                    Rule::Exists,
                    id.to_string(),
                    "This volume is gone.",
                ));
            }
            Target::Network(id) if !draft.estate().networks.contains_key(id) => {
                draft.found(Finding::stop(
                    Rule::Exists,
                    id.to_string(),
                    "This network is gone.",
                ));
            }
            Target::Image(id) if !draft.estate().images.contains_key(id) => {
                draft.found(Finding::stop(
                    Rule::Exists,
                    id.to_string(),
                    "This image is gone.",
                ));
            }
            Target::Cluster(_) | Target::Volume(_) | Target::Network(_) | Target::Image(_) => {}
        }
        draft.intend(Event::Edited {
            target: *target,
            sets: sets.iter().map(|set| dated(set, draft.now)).collect(),
        });
    }
    let changes = sets.iter().map(Set::tell).collect::<Vec<_>>().join("; ");
    draft.found(Finding::clear(Rule::State, "edit", format!("{changes}.")));
}

/// Several hosts, each with what is changed of it.
pub(super) fn hosts(draft: &mut Draft<'_>, edits: &[(HostId, Vec<Set>)]) {
    if edits.is_empty() {
        let text = "Nothing is changed yet.";
        return draft.found(Finding::stop(Rule::Nothing, "fields", text));
    }
    for (host, sets) in edits {
        edit(draft, &[Target::Host(*host)], sets);
    }
    draft.title = format!("Edit {} hosts", edits.len());
}

/// An address that is newly kept is kept from now on.
fn dated(set: &Set, now: crate::moment::Moment) -> Set {
    let mut set = set.clone();
    if let Set::Reserved(all) = &mut set {
        let new = all.values_mut().filter(|r| r.since.0 == 0);
        new.for_each(|r| r.since = now);
    }
    set
}

fn check(draft: &mut Draft<'_>, targets: &[Target], set: &Set) {
    let stop = |rule, field: &str, text: String| Some(Finding::stop(rule, field, text).at(field));
    let found = match set {
        Set::Name(name) => named(draft, targets, name),
        Set::Label { key, value } => names::check_labels([(key.as_str(), value.as_str())])
            .err()
            .and_then(|words| stop(Rule::Label, "labels", words)),
        Set::Tier(tier) if !(1..=4).contains(tier) => stop(
            Rule::State,
            "tier",
            "Restart tiers go from 1 (first) to 4.".into(),
        ),
        Set::VCpus(0) => stop(Rule::Cores, "vcpus", "At least one vCPU.".into()),
        Set::VCpusMax(0) => stop(Rule::Cores, "vcpus_max", "At least one vCPU.".into()),
        Set::Memory(m) if m.size < Bytes::mib(64) => {
            stop(Rule::Memory, "memory", "At least 64 MiB of memory.".into())
        }
        Set::Memory(m) if m.kept > m.size => stop(
            Rule::Memory,
            "kept",
            "No more can be always kept than its memory size.".into(),
        ),
        Set::Memory(m) if m.max < m.size => stop(
            Rule::Memory,
            "max",
            "It can't grow to less than its size.".into(),
        ),
        Set::Reserved(all) => limits::RESERVED.check(all.len()).err().map_or_else(
            || outside(draft, targets, all),
            |words| stop(Rule::Address, "reserved", words),
        ),
        Set::Intended(Some(hosts)) if hosts.is_empty() => stop(
            Rule::Nothing,
            "hosts",
            "At least one host must mount it.".into(),
        ),
        Set::Intended(Some(hosts)) => still_in_use(draft, targets, hosts),
        Set::Demand(d) if d.failures > 2 => stop(
            Rule::Headroom,
            "failures",
            "Up to two host failures are computed; choose 0, 1 or 2.".into(),
        ),
        Set::Kind(kind) => built_so(draft, targets, *kind),
        Set::After(Some(other)) => after(draft, targets, *other),
        Set::Rules(rules) if rules.len() > limits::RULES.most => stop(
            Rule::Place,
            "name",
            limits::RULES.check(rules.len()).err().unwrap_or_default(),
        ),
        Set::Rules(rules) => {
            let found = rules.iter().find_map(|r| rule(draft, targets, rules, r));
            found.or_else(|| contradiction(draft, targets, rules))
        }
        Set::Note(_) | Set::Unlabel { .. } | Set::Tier(_) | Set::Protected(_) | Set::Restarts(_) | Set::After(_) | Set::VCpus(_) | Set::VCpusMax(_) | Set::Memory(_) | Set::DiskSize { .. } | Set::Demand(_) | Set::Recovers(_) | Set::Intended(_) | Set::Attach(_) | Set::BootOrder(_) | Set::BootOnce(_) | Set::CarriesAgent(_) => None,
    };
    draft.found_all(found);
}

fn named(draft: &Draft<'_>, targets: &[Target], name: &str) -> Option<Finding> {
    let stop = |text: String| Some(Finding::stop(Rule::Name, "name", text).at("name"));
    if targets.len() > 1 {
        return stop("Several can't have one name.".into());
    }
    match targets[0] {
            Target::Cluster(id)
                if draft
                    .estate()
                    .cluster_named(name)
                    .is_some_and(|c| c.id != id) =>
            {
                stop(format!("There is a cluster {name} already."),
                )
            }
            Target::Cluster(_) if name.trim().is_empty() => {
                stop("A name is missing.".into())
            }
            Target::Cluster(_) => limits::GROUP
                .check(name.chars().count())
                .err()
                .and_then(stop),
            Target::Image(_) => image_name(draft, targets[0], name),
            Target::Machine(_) | Target::Host(_) | Target::Volume(_) | Target::Network(_) => match names::check(name) {
                Err(words) => stop(words),
                Ok(()) => taken(draft, targets[0], name).and_then(|what| {
                    stop(format!("There is a {what} {name} already."),
                    )
                }),
            },
        }
}

/// Images have names that people read: a line of up to 80 characters.
fn image_name(draft: &Draft<'_>, target: Target, name: &str) -> Option<Finding> {
    let stop = |text: String| Some(Finding::stop(Rule::Name, "name", text).at("name"));
    if name.trim().is_empty() || limits::IMAGE_NAME.check(name.chars().count()).is_err() {
        return stop(format!(
            "A name has between 1 and {} characters.",
            limits::IMAGE_NAME.most
        ));
    }
    taken(draft, target, name)?;
    stop(format!("There is an image {name} already."))
}

/// Whether its hosts are as many, and where, as its kind says.
fn built_so(draft: &Draft<'_>, targets: &[Target], kind: ClusterKind) -> Option<Finding> {
    let Some(Target::Cluster(id)) = targets.first() else {
        return None;
    };
    let hosts: Vec<_> = draft.estate().hosts_in(*id).collect();
    let sites: std::collections::BTreeSet<_> = hosts.iter().map(|h| h.site).collect();
    let text = kind.fits(hosts.len(), sites.len()).err()?;
    Some(Finding::stop(Rule::State, "kind", text).at("kind"))
}

/// A machine waits for another of its cluster, and never for itself.
fn after(draft: &Draft<'_>, targets: &[Target], other: MachineId) -> Option<Finding> {
    let stop = |text: String| Some(Finding::stop(Rule::Exists, "after", text).at("after"));
    let estate = draft.estate();
    let Some(found) = estate.machines.get(&other) else {
        return stop("The machine to wait for is gone.".into());
    };
    for target in targets {
        let Target::Machine(id) = target else {
            continue;
        };
        let mut at = Some(other);
        let mut seen = 0;
        while let Some(next) = at {
            if next == *id {
                return stop(format!(
                    "{} would wait for itself, by way of {}.",
                    target.name(estate),
                    found.name
                ));
            }
            seen += 1;
            at = estate
                .machines
                .get(&next)
                .and_then(|m| m.after)
                .filter(|_| seen < 1000);
        }
        let cluster = estate.machines.get(id).and_then(|m| m.cluster);
        if cluster != found.cluster {
            return stop(format!("{} is in another cluster.", found.name));
        }
    }
    None
}

/// A rule has a name of its own, machines, and hosts where it pins.
fn rule(
    draft: &Draft<'_>,
    targets: &[Target],
    all: &[PlaceRule],
    rule: &PlaceRule,
) -> Option<Finding> {
    let stop =
        |field: &str, text: String| Some(Finding::stop(Rule::Place, &rule.name, text).at(field));
    if rule.name.trim().is_empty() || limits::GROUP.check(rule.name.chars().count()).is_err() {
        let most = limits::GROUP.most;
        return stop("name", format!("A rule has a name of up to {most} characters."));
    }
    if all.iter().filter(|r| r.name == rule.name).count() > 1 {
        return stop("name", format!("There is a rule “{}” already.", rule.name));
    }
    let Some(Target::Cluster(cluster)) = targets.first() else {
        return None;
    };
    let machines: Vec<_> = draft
        .estate()
        .machines_in(*cluster)
        .filter(|m| rule.who.has(m))
        .collect();
    let needed = if matches!(rule.kind, RuleKind::Pinned(_)) {
        1
    } else {
        2
    };
    if machines.len() < needed {
        let text = format!(
            "{} of this cluster are meant; it needs at least {needed}.",
            machines.len()
        );
        return stop("machines", text);
    }
    let hosts: Vec<_> = draft.estate().hosts_in(*cluster).collect();
    match &rule.kind {
        RuleKind::Pinned(to) if !hosts.iter().any(|h| to.has(h)) => {
            stop("hosts", "No host of this cluster is meant.".into())
        }
        RuleKind::Apart if rule.required && machines.len() > hosts.len() => {
            let (n, hosts) = (machines.len(), hosts.len());
            let text = format!("{n} machines can't be apart on {hosts} hosts.");
            stop("machines", text)
        }
        RuleKind::Apart | RuleKind::Together | RuleKind::Pinned(_) => None,
    }
}

/// Machines that one rule keeps together and another keeps apart can be nowhere.
fn contradiction(draft: &Draft<'_>, targets: &[Target], rules: &[PlaceRule]) -> Option<Finding> {
    let Some(Target::Cluster(cluster)) = targets.first() else {
        return None;
    };
    let all: Vec<_> = draft.estate().machines_in(*cluster).filter(|m| m.deleted.is_none()).collect();
    let meant = |r: &PlaceRule| all.iter().filter(|m| r.who.has(m)).collect::<Vec<_>>();
    let required = |kind: &RuleKind| rules.iter().filter(move |r| r.required && r.kind == *kind).collect::<Vec<_>>();
    for together in required(&RuleKind::Together) {
        let party = meant(together);
        let by_rule = required(&RuleKind::Apart).into_iter().map(|r| {
            let both: Vec<_> = party.iter().filter(|m| r.who.has(m)).collect();
            (r.name.to_string(), both)
        });
        let own = |m: &Machine| m.apart.iter().cloned().chain(draft.estate().clustered(m)).collect::<Vec<_>>();
        let groups: std::collections::BTreeSet<String> = party.iter().flat_map(|m| own(m)).collect();
        let by_group = groups.into_iter().map(|g| {
            let both: Vec<_> = party.iter().filter(|m| own(m).contains(&g)).collect();
            (g, both)
        });
        for (apart, both) in by_rule.chain(by_group) {
            if let [one, other, ..] = both.as_slice() {
                let text = format!(
                    "“{}” keeps {} and {} together, “{apart}” keeps them apart: they could run nowhere.",
                    together.name, one.name, other.name
                );
                let stop = Finding::stop(Rule::Place, &together.name, text).at("kind");
                return Some(stop.remedy("Drop one of the two, or let one of them only be preferred."));
            }
        }
    }
    None
}

/// Rules that don't hold as machines are now, with the move that would heal each.
fn newly_broken(draft: &mut Draft<'_>, targets: &[Target], rules: &[PlaceRule]) {
    let Some(Target::Cluster(id)) = targets.first() else {
        return;
    };
    let Some(cluster) = draft.estate().clusters.get(id).cloned() else {
        return;
    };
    let mut then = (*cluster).clone();
    then.rules = rules.to_vec();
    let mut fork = draft.estate().clone();
    fork.put(Fact::Cluster(then.clone().into()));
    let view = draft.view.with(fork);
    let before = broken(draft.view, &cluster);
    for found in broken(&view, &then) {
        if before.contains(&found) {
            continue;
        }
        let estate = draft.estate();
        let heal = found.heal.and_then(|(m, h)| Some((estate.machines.get(&m)?, estate.hosts.get(&h)?)));
        let remedy = match heal {
            Some((machine, host)) => format!("Moving {} to {} heals it; it stands under Needs you until then.", machine.name, host.name),
            None => "No single move heals it; it stands under Needs you until it holds.".into(),
        };
        let text = format!("“{}” does not hold as it is: {}. Nothing moves by itself.", found.rule, found.words);
        draft.found(Finding::mind(Rule::Place, &found.rule, text).remedy(remedy));
    }
}

/// A kept address must lie in a subnet of the network, and be nobody's.
fn outside(
    draft: &Draft<'_>,
    targets: &[Target],
    all: &std::collections::BTreeMap<std::net::IpAddr, crate::estate::Reservation>,
) -> Option<Finding> {
    let Some(Target::Network(id)) = targets.first() else {
        return None;
    };
    let network = draft.estate().networks.get(id)?;
    let stop = |text: String| Some(Finding::stop(Rule::Address, "addresses", text).at("reserved"));
    let wrong = all.keys().filter(|a| !network.reserved.contains_key(*a)).find_map(|a| usable(network, *a).err());
    if let Some(words) = wrong {
        return stop(words);
    }
    let machines = network.machines(draft.estate());
    let clash = machines
        .flat_map(|m| {
            m.nics
                .iter()
                .flat_map(|n| &n.addresses)
                .map(move |a| (a, m))
        })
        .find(|(a, _)| all.contains_key(*a))?;
    stop(format!("{} has {}.", clash.1.name, clash.0))
}

/// A host on which machines run from the volume stays an intended one.
fn still_in_use(
    draft: &Draft<'_>,
    targets: &[Target],
    hosts: &std::collections::BTreeSet<crate::ids::HostId>,
) -> Option<Finding> {
    let Some(Target::Volume(id)) = targets.first() else {
        return None;
    };
    let estate = draft.estate();
    let left_out = estate
        .machines_with_disk_on(*id)
        .find(|m| m.host.is_some_and(|h| !hosts.contains(&h)))?;
    let host = left_out.host.and_then(|h| estate.hosts.get(&h))?;
    let text = format!("{} runs from it on {}.", left_out.name, host.name);
    Some(
        Finding::stop(Rule::State, &host.name, text)
            .at("hosts")
            .remedy("Keep this host, or move the machine away first."),
    )
}

fn taken(draft: &Draft<'_>, target: Target, name: &str) -> Option<&'static str> {
    let estate = draft.estate();
    match target {
        Target::Machine(id) => estate
            .machine_named(name)
            .is_some_and(|m| m.id != id)
            .then_some("machine"),
        Target::Host(id) => estate
            .host_named(name)
            .is_some_and(|h| h.id != id)
            .then_some("host"),
        Target::Cluster(_) | Target::Network(_) => None,
        Target::Image(id) => estate
            .image_named(name)
            .is_some_and(|i| i.id != id)
            .then_some("image"),
        Target::Volume(id) => estate
            .volumes
            .values()
            .any(|v| v.id != id && v.name == name)
            .then_some("volume"),
    }
}

/// The labels that a thing will have, all together.
fn check_labels(draft: &mut Draft<'_>, mut labels: BTreeMap<String, String>, sets: &[Set]) {
    for set in sets {
        if let Set::Label { key, value } = set {
            labels.insert(key.into(), value.into());
        } else if let Set::Unlabel { key } = set {
            labels.remove(key.as_str());
        }
    }
    if let Err(words) = limits::LABELS.check(labels.len()) {
        draft.found(Finding::stop(Rule::Label, "labels", words).at("labels"));
    }
}

fn edit_machine(draft: &mut Draft<'_>, machine: &Machine, sets: &[Set]) {
    let name = &machine.name;
    check_labels(draft, machine.labels.clone(), sets);
    if machine.deleted.is_some() {
        draft.found(Finding::stop(
            Rule::Deleted,
            name,
            format!("{name} was deleted; bring it back first."),
        ));
    }
    let sizes = sets.iter().any(Set::changes_hardware);
    if sizes {
        sized(draft, machine, sets);
    }
    if sets.iter().any(Set::boots) {
        let mut then = machine.clone();
        sets.iter().for_each(|s| s.on_machine(&mut then));
        draft.found_all(booting::check(draft.estate(), machine, &then.boot));
        let order = sets
            .iter()
            .any(|s| matches!(s, Set::BootOrder(_) | Set::BootOnce(_)));
        if order && machine.state != MachineState::Off {
            let text = format!("{name} is on; what it boots from counts at its next power-on.");
            draft.found(Finding::mind(Rule::State, name, text).at("once"));
        }
    }
    grown::disks(draft, machine, sets);
    let rewrite = match sets.iter().any(Set::reaches_device) {
        true => rewrite(draft, machine, sets),
        false => None,
    };
    if sizes && !machine.is_off() {
        live::resize(draft, machine, sets, rewrite);
    }
}

/// Writes what its host must know; answers the step, and where.
fn rewrite(draft: &mut Draft<'_>, machine: &Machine, sets: &[Set]) -> Option<(usize, HostId)> {
    let via = draft.via(machine)?;
    let device = sets.iter().filter(|s| s.reaches_device()).cloned().collect();
    let step = Step::Rewrite {
        machine: machine.id,
        via,
        sets: device,
    };
    let title = format!("Write the record of {}", machine.name);
    Some((draft.step(step, title, &[], Some("name")), via))
}

/// Whether its sizes can be changed now, and fit each other.
fn sized(draft: &mut Draft<'_>, machine: &Machine, sets: &[Set]) {
    let name = &machine.name;
    let mut then = machine.clone();
    sets.iter().for_each(|s| s.on_machine(&mut then));
    if then.vcpus_max != 0 && then.vcpus_max < then.vcpus {
        let text = format!("{name} can't grow to fewer vCPUs than its {}.", then.vcpus);
        draft.found(Finding::stop(Rule::Cores, name, text).at("vcpus_max"));
    }
    let unsure = !machine.is_off() && !draft.knows(machine);
    let busy = machine.arriving.is_some() || matches!(machine.state, MachineState::Planned | MachineState::Stopping);
    if busy && !unsure {
        let text = format!("{name} is being made, moved or stopped.");
        draft.found(Finding::stop(Rule::State, name, text).at("memory").remedy("Wait until that is over."));
    }
}

/// What machines run with is what they start with next.
pub(super) fn withdraw(draft: &mut Draft<'_>, machines: &[MachineId]) {
    "Withdraw what waits for a restart".clone_into(&mut draft.title);
    let all = draft.machines(machines);
    let waiting: Vec<_> = all.iter().filter_map(|m| Some((m, *m.now.as_deref()?))).collect();
    if waiting.is_empty() {
        let text = "Nothing waits for a restart of these machines.";
        return draft.found(Finding::stop(Rule::Nothing, "machines", text).at("machines"));
    }
    let count = waiting.len();
    let only = waiting.first().map(|(m, _)| m.name.clone());
    for (machine, now) in waiting {
        let sets = [
            (machine.vcpus != now.vcpus).then_some(Set::VCpus(now.vcpus)),
            (machine.most_vcpus() != now.most_vcpus()).then_some(Set::VCpusMax(now.vcpus_max)),
            (machine.memory != now.memory).then_some(Set::Memory(now.memory)),
        ];
        let sets: Vec<Set> = sets.into_iter().flatten().collect();
        edit(draft, &[Target::Machine(machine.id)], &sets);
    }
    draft.title = match (count, only) {
        (1, Some(name)) => format!("Withdraw what waits for a restart of {name}"),
        (n, _) => format!("Withdraw what waits for a restart of {n} machines"),
    };
}

