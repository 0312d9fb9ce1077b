//! Claiming found hosts, and handing hosts back.

use super::{ClaimHosts, Draft, Event, Step, take::held};
use crate::{
    estate::{Condition, Hardware, Host},
    evidence::{Answer, Greeting, Probe},
    finding::{Finding, Rule},
    ids::{HostId, SiteId},
    limits,
    names,
    endpoint::{Endpoint, Password, short},
};
use std::collections::BTreeSet;

pub(super) fn claim(draft: &mut Draft<'_>, ask: &ClaimHosts) {
    if ask.targets.is_empty() {
        draft.found(Finding::stop(Rule::Nothing, "hosts", "No host is selected.").at("hosts"));
    }
    if let Err(words) = limits::DEVICES.check(ask.targets.len()) {
        draft.found(Finding::stop(Rule::Count, "hosts", words).at("hosts"));
    }
    match ask.password {
        Password::Missing => {
            let text = "Type the password that the hosts were installed with.";
            draft.found(Finding::stop(Rule::Password, "password", text).at("password"));
        }
        Password::Typed | Password::Kept(_) => draft.found(Finding::clear(
            Rule::Password,
            "password",
            "The password is used once for each host and then replaced by a key that only Zastrugi has.",
        )),
    }
    let site = draft.site(&ask.site);
    let mut names = BTreeSet::new();
    let mut titles = Vec::new();
    for target in &ask.targets {
        if let Some(greeting) = greeting(draft, target) {
            check(draft, target, &greeting, &mut names);
            titles.push(greeting.name.clone());
            if let (Some(site), Password::Kept(_) | Password::Typed) = (site, ask.password) {
                add_steps(draft, ask, target, &greeting, site);
            }
        }
    }
    draft.title = match titles.as_slice() {
        [one] => format!("Claim {one}"),
        many => format!("Claim {} hosts", many.len()),
    };
}

fn greeting(draft: &mut Draft<'_>, target: &Endpoint) -> Option<Box<Greeting>> {
    let address = &target.address;
    let answer = draft
        .view
        .evidence
        .fresh(&Probe::Greeting(address.to_string()), draft.now);
    let finding = match answer {
        Some(Answer::Greeting(greeting)) => return Some(greeting.clone()),
        Some(Answer::Silent { why }) => Finding::stop(
            Rule::Reachable,
            address,
            format!("{address} does not answer: {why}."),
        )
        .remedy("Check that the host is on and its address is right, then scan again."),
        _ => Finding::stop(
            Rule::Reachable,
            address,
            format!("{address} was not asked lately."),
        )
        .remedy("Scan again; what a host says is rested on for half an hour."),
    };
    draft.found(finding.at("hosts"));
    None
}

fn check(
    draft: &mut Draft<'_>,
    target: &Endpoint,
    greeting: &Greeting,
    names: &mut BTreeSet<String>,
) {
    let name = &greeting.name;
    let estate = draft.estate();
    let mut stops = Vec::new();
    if greeting.pin != target.pin {
        stops.push(
            Finding::stop(
                Rule::Identity,
                name,
                format!("{name} shows another certificate now than when you looked at it."),
            )
            .because(format!("then {}, now {}", short(&target.pin), short(&greeting.pin)))
            .remedy("Somebody may stand between. Compare the fingerprint on the host's own screen, then scan again."),
        );
    }
    if let Some(ours) = estate.host_at(&target.address) {
        stops.push(Finding::stop(
            Rule::Owner,
            name,
            format!("{} is claimed already.", ours.name),
        ));
    } else if let Some((_, owner)) = &greeting.owner {
        stops.push(
            Finding::stop(
                Rule::Owner,
                name,
                format!("{name} belongs to the installation “{owner}”."),
            )
            .remedy("Hand it back there first."),
        );
    }
    if estate
        .host_named(name)
        .is_some_and(|h| h.access.address != target.address)
        || !names.insert(name.clone())
    {
        stops.push(Finding::stop(
            Rule::Name,
            name,
            format!("There is a host {name} already."),
        ));
    }
    if let Err(words) = names::check(name) {
        stops.push(Finding::stop(
            Rule::Name,
            name,
            format!("The host calls itself “{name}”: {words}"),
        ));
    }
    stops.extend(too_small(name, &greeting.hardware));
    if stops.is_empty() {
        let hardware = &greeting.hardware;
        let text = format!(
            "{name}: {} {}, {} cores, {}.",
            hardware.maker, hardware.model, hardware.cpu.cores, hardware.memory
        );
        draft.found(
            Finding::clear(Rule::Identity, name, text)
                .because(format!("fingerprint {}", short(&greeting.pin))),
        );
    }
    draft.found_all(stops.into_iter().map(|f| f.at("hosts")));
    if !greeting.machines.is_empty() {
        let text = format!(
            "{} machines run on {name}; they are registered and left running.",
            greeting.machines.len()
        );
        draft.found(Finding::mind(Rule::State, name, text).because(greeting.machines.join(", ")));
    }
}

/// What every host must have.
fn too_small(name: &str, hardware: &Hardware) -> Vec<Finding> {
    let mut stops = Vec::new();
    if hardware.is_too_small() {
        let text = format!(
            "{name} is too small: {} cores, {}.",
            hardware.cpu.cores, hardware.memory
        );
        stops.push(
            Finding::stop(Rule::Minimum, name, text)
                .because(format!("{} cores and {} are needed", Hardware::LEAST_CORES, Hardware::LEAST_MEMORY)),
        );
    }
    if !hardware.virtualization {
        let text = format!("Virtualization is switched off in the firmware of {name}.");
        stops.push(
            Finding::stop(Rule::Minimum, name, text)
                .remedy("Switch it on in the host's firmware settings."),
        );
    }
    stops
}

fn add_steps(
    draft: &mut Draft<'_>,
    ask: &ClaimHosts,
    target: &Endpoint,
    greeting: &Greeting,
    site: SiteId,
) {
    let id = HostId(draft.number());
    let name = &greeting.name;
    let secret = match ask.password {
        Password::Kept(secret) => secret,
        Password::Missing | Password::Typed => crate::ids::SecretRef(uuid::Uuid::nil()),
    };
    draft.intend(Event::Claiming(Box::new(held(id, target, greeting, site))));
    draft.step(
        Step::Claim {
            host: id,
            password: secret,
        },
        format!("Claim {name}"),
        &[],
        Some("password"),
    );
}

pub(super) fn hand_back(draft: &mut Draft<'_>, hosts: &[HostId]) {
    if hosts.is_empty() {
        draft.found(Finding::stop(Rule::Nothing, "hosts", "No host is selected.").at("hosts"));
    }
    let chosen = draft.chosen(hosts).into_iter();
    let named: Vec<_> = chosen.filter_map(|id| draft.host(id)).cloned().collect();
    draft.title = match named.as_slice() {
        [one] => format!("Hand back {}", one.name),
        many => format!("Hand back {} hosts", many.len()),
    };
    for host in &named {
        let on_it: Vec<_> = draft
            .estate()
            .machines_on(host.id)
            .map(|m| m.name.clone())
            .collect();
        if on_it.is_empty() {
            draft.found(Finding::clear(
                Rule::State,
                &host.name,
                format!("No machine is on {}.", host.name),
            ));
        } else {
            let text = format!("{} machines are on {}.", on_it.len(), host.name);
            draft.found(
                Finding::stop(Rule::State, &host.name, text)
                    .because(on_it.join(", "))
                    .at("hosts")
                    .remedy("Stop them, or start them elsewhere, first."),
            );
        }
        for cluster in draft.estate().kept_on(host.id) {
            let text = format!("A keeper of {} is on {}.", cluster.name, host.name);
            let stop = Finding::stop(Rule::Keepers, &host.name, text).at("hosts");
            draft.found(stop.remedy(format!("Place the keepers of {} on other hosts first.", cluster.name)));
        }
        if let Some(entered) = host.entered.as_deref() {
            let text = format!("The name {} goes on leading to {}.", entered.name, host.name);
            let mind = Finding::mind(Rule::Name, &host.name, text);
            draft.found(mind.remedy("Let it leave its cluster instead: that takes its name out first."));
        }
        if !tells(draft, host) {
            if let Some(cluster) = host.cluster.and_then(|c| draft.estate().clusters.get(&c)).cloned() {
                last_host(draft, host, &cluster, hosts);
            }
            continue;
        }
        let mut after = vec![];
        if let Some(cluster) = host
            .cluster
            .and_then(|c| draft.estate().clusters.get(&c))
            .cloned()
        {
            after.push(draft.step(
                Step::Leave { host: host.id },
                format!("{} leaves {}", host.name, cluster.name),
                &[],
                None,
            ));
            last_host(draft, host, &cluster, hosts);
        }
        draft.step(
            Step::Release { host: host.id },
            format!("Give up {}", host.name),
            &after,
            None,
        );
    }
}

/// Whether the host is told that it is given up. One that is off, or has become another, is forgotten untold; one of which
/// nobody knows what it does is not given up at all: the check of what can be reached says so.
fn tells(draft: &mut Draft<'_>, host: &Host) -> bool {
    let name = &host.name;
    let text = match host.condition {
        Condition::Off { .. } => format!("{name} is off and can't be told. It keeps its key and its claim."),
        Condition::ShutOut { .. } => format!("{name} is shut out of its storage and can't be told. It keeps its key and its claim."),
        Condition::Stranger { .. } => format!("{name} shows another certificate, so it is told nothing."),
        Condition::Claiming | Condition::Steady | Condition::Hangs { .. } | Condition::Lost { .. } => return true,
    };
    let mind = Finding::mind(Rule::Owner, name, text);
    draft.found(mind.remedy("Before it is used again, install it anew and claim it."));
    let step = Step::Forget { host: host.id };
    draft.step(step, format!("Give up {name}, untold"), &[], None);
    false
}

fn last_host(
    draft: &mut Draft<'_>,
    host: &Host,
    cluster: &crate::estate::Cluster,
    leaving: &[HostId],
) {
    let staying: Vec<_> = draft
        .estate()
        .hosts_in(cluster.id)
        .filter(|h| !leaving.contains(&h.id))
        .cloned()
        .collect();
    if staying.is_empty() && draft.estate().count_in(cluster.id) > 0 {
        let text = format!(
            "{} is the last host of {}; its stopped machines would be out of reach.",
            host.name, cluster.name
        );
        draft.found(
            Finding::stop(Rule::State, &cluster.name, text)
                .at("hosts")
                .remedy("Remove its machines for good first."),
        );
    } else {
        draft.leaving.extend(leaving);
    }
}
