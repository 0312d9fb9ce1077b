//! The checks of load balancers and of fronts: its address, its members, and how their health is asked.

use super::{ConnectBalancer, Draft, Event, PutFront, Step};
use crate::{
    addressing::{lowest_free, usable},
    endpoint::Password,
    estate::{Balancer, Certificate, Check, Controller, Estate, Front, Manner, Network, Part, Protocol, Sticks, Validity},
    evidence::{Answer, Probe},
    finding::{Finding, Rule},
    fronts,
    ids::{BalancerId, FrontId, HostId, SecretRef},
    moment::{Moment, Span},
    names,
};
use std::{
    collections::BTreeSet,
    net::{IpAddr, SocketAddr},
    sync::Arc,
};

/// How often health may be asked, and how long open connections may take to end.
const EVERY: std::ops::RangeInclusive<u64> = 1..=300;
const DRAIN: std::ops::RangeInclusive<u64> = 0..=3600;
const IN_A_ROW: std::ops::RangeInclusive<u8> = 1..=20;

fn stop(field: &str, rule: Rule, text: impl Into<String>) -> Finding {
    Finding::stop(rule, field, text).at(field)
}

pub(super) fn connect(draft: &mut Draft<'_>, ask: &ConnectBalancer) {
    "Connect a load balancer".clone_into(&mut draft.title);
    let address = &ask.target.address;
    if address.is_empty() {
        return draft.found(stop("address", Rule::Nothing, "Type the management address of the load balancer."));
    }
    if ask.token == Password::Missing {
        draft.found(stop("password", Rule::Password, "Type the token that it takes orders with."));
    }
    let site = draft.site(&ask.site);
    if let Some(known) = draft.estate().balancers.values().find(|b| b.access.address == **address) {
        let text = format!("{address} is {}, which is connected already.", known.name);
        return draft.found(stop("address", Rule::Owner, text));
    }
    let probe = Probe::BalancerGreeting(address.to_string());
    let Some(name) = draft.manager(&probe, &ask.target, false, "address") else { return };
    if draft.estate().balancers.values().any(|b| b.name == name) {
        draft.found(stop("address", Rule::Name, format!("There is a load balancer {name} already.")));
    }
    let Some(site) = site else { return };
    draft.title = format!("Connect {name}");
    let text = "Only fronts that are made here are changed on it; what else it has stays as it is.";
    draft.found(Finding::clear(Rule::Permit, &name, text));
    let id = BalancerId(draft.number());
    let key = match ask.token {
        Password::Kept(secret) => Some(secret),
        Password::Typed => Some(SecretRef(uuid::Uuid::nil())),
        Password::Missing => None,
    };
    draft.intend(Event::Connecting(Box::new(Balancer {
        id,
        name: name.clone(),
        site,
        access: Controller {
            address: address.to_string(),
            pin: ask.target.pin.to_string(),
            silent: None,
        },
        key,
        software: String::new(),
        known: false,
    })));
    draft.step(Step::ReadBalancer { balancer: id }, format!("Show {name} the token, read what it is"), &[], Some("password"));
}

pub(super) fn forget(draft: &mut Draft<'_>, id: BalancerId) {
    "Forget a load balancer".clone_into(&mut draft.title);
    let Some(balancer) = draft.estate().balancers.get(&id).cloned() else {
        return draft.found(stop("balancer", Rule::Exists, "It is gone."));
    };
    let name = &balancer.name;
    draft.title = format!("Forget {name}");
    let on_it: Vec<&str> = draft.estate().fronts.values().filter(|f| f.balancer == id).map(|f| f.name.as_str()).collect();
    if !on_it.is_empty() {
        let finding = stop("balancer", Rule::State, format!("{} fronts are on {name}.", on_it.len())).because(on_it.join(", "));
        return draft.found(finding.remedy("Remove them first."));
    }
    draft.found(Finding::clear(Rule::State, name, "No front is on it; nothing is changed there."));
    draft.step(Step::Forget { balancer: id }, format!("{name} is known here no more"), &[], None);
}

/// The balancer, if it is there; a silent one is a *stop*.
fn balancer(draft: &mut Draft<'_>, id: Option<BalancerId>) -> Option<Arc<Balancer>> {
    let Some(found) = id.and_then(|id| draft.estate().balancers.get(&id)).cloned() else {
        let text = match draft.estate().balancers.is_empty() {
            true => "No load balancer is connected yet; connect one first.",
            false => "Choose the load balancer.",
        };
        draft.found(stop("balancer", Rule::Exists, text));
        return None;
    };
    if !found.answers() {
        let why = found.access.silent.clone().unwrap_or_else(|| "it was not read yet".into());
        let finding = stop("balancer", Rule::Reachable, format!("{} does not answer.", found.name)).because(why);
        draft.found(finding.remedy("Look at its management address first."));
    }
    Some(found)
}

pub(super) fn put(draft: &mut Draft<'_>, ask: &PutFront) {
    let name = ask.name.trim();
    draft.title = format!("Make front {name}");
    let before = match ask.front {
        None => None,
        Some(id) => match draft.estate().fronts.get(&id).cloned() {
            Some(front) => Some(front),
            None => return draft.found(stop("name", Rule::Exists, "This front is gone.")),
        },
    };
    if let Some(before) = &before {
        draft.title = format!("Change front {}", before.name);
    }
    let mut others = draft.estate().fronts.values().filter(|f| Some(f.id) != ask.front);
    let taken = others.any(|f| f.name == name);
    let problem = match names::check(name) {
        Err(words) => Some(words),
        Ok(()) if taken => Some(format!("There is a front {name} already.")),
        Ok(()) => None,
    };
    draft.found_all(problem.map(|text| stop("name", Rule::Name, text)));
    let balancer = balancer(draft, ask.balancer);
    let network = ask.network.and_then(|n| draft.estate().networks.get(&n)).filter(|n| n.ready).cloned();
    if network.is_none() {
        draft.found(stop("network", Rule::Exists, "Choose the network in which its address lies."));
    }
    for (field, port) in [("port", ask.port), ("serves", ask.serves)] {
        if port == 0 {
            draft.found(stop(field, Rule::Address, "A port is from 1 to 65535."));
        }
    }
    manner(draft, &ask.manner);
    let (Some(balancer), Some(network)) = (balancer, network) else { return };
    let Some(address) = address(draft, ask, &network) else { return };
    if before.as_ref().is_none_or(|b| (b.network, b.address) != (network.id, address)) {
        nobody_has(draft, &network, address);
    }
    let Ok(certificate) = certificate(draft, ask, before.as_deref()) else { return };
    let front = Front {
        id: before.as_ref().map_or_else(|| FrontId(draft.number()), |b| b.id),
        name: name.to_owned(),
        balancer: balancer.id,
        network: network.id,
        address,
        port: ask.port,
        label: ask.label.clone(),
        serves: ask.serves,
        manner: ask.manner.clone(),
        certificate,
        ready: before.is_some(),
        seen: None,
        note: before.as_ref().map_or_else(String::new, |b| b.note.clone()),
    };
    members(draft, &front);
    match before {
        None => begins(draft, front, &balancer),
        Some(before) => changes(draft, &before, front, &balancer),
    }
}

fn begins(draft: &mut Draft<'_>, front: Front, balancer: &Balancer) {
    let (id, name) = (front.id, front.name.clone());
    draft.intend(Event::Planned(Box::new(front)));
    let set = draft.step(Step::Set { front: id }, format!("Set it on {}", balancer.name), &[], Some("balancer"));
    draft.step(Step::Ready { front: id }, format!("{name} is ready"), &[set], None);
}

fn changes(draft: &mut Draft<'_>, before: &Front, front: Front, balancer: &Balancer) {
    let same = Front { seen: before.seen.clone(), ..front.clone() } == *before;
    if same {
        return draft.found(stop("name", Rule::Nothing, "Nothing is changed yet."));
    }
    if before.balancer != front.balancer {
        let text = "A front stays on its load balancer.";
        return draft.found(stop("balancer", Rule::State, text).remedy("Make a new one there, and remove this one."));
    }
    if (before.address, before.port) != (front.address, front.port) {
        let text = format!("Whoever comes by {} finds nobody there any more.", SocketAddr::new(before.address, before.port));
        draft.found(Finding::mind(Rule::Address, &front.name, text).at("address"));
    }
    let id = front.id;
    draft.intend(Event::Changed(Box::new(front)));
    draft.step(Step::Set { front: id }, format!("Set it on {}", balancer.name), &[], Some("balancer"));
}

/// The next free virtual address of a network.
pub fn next_address(estate: &Estate, network: &Network, now: Moment) -> Option<IpAddr> {
    let taken: BTreeSet<IpAddr> = network.taken(estate).into_keys().collect();
    lowest_free(network, Part::Virtual, &taken, now).into_iter().next()?.ok()
}

/// Whether somebody answers at an address that no front has yet, as a host there sees it.
fn nobody_has(draft: &mut Draft<'_>, network: &Network, address: IpAddr) {
    if draft.estate().fronts.values().any(|f| f.address == address) {
        return;
    }
    let on = &network.name;
    let Some(host) = network.looker(draft.estate()).cloned() else {
        let text = format!("No host that answers has {on}; nobody can look whether somebody has {address}.");
        return draft.found(Finding::unchecked(Rule::Address, "address", text));
    };
    let probe = Probe::Neighbour { network: network.id, host: host.id, address };
    let name = &host.name;
    draft.found(match draft.view.evidence.fresh(&probe, draft.now) {
        Some(Answer::Neighbour { mac: Some(mac) }) => {
            let finding = stop("address", Rule::Address, format!("Somebody has {address} on {on} already: {mac} answers {name}."));
            finding.remedy("Find out who that is, or choose another address.")
        }
        Some(Answer::Neighbour { mac: None }) => Finding::clear(Rule::Address, "address", format!("Nobody answers {name} at {address} on {on}.")),
        Some(Answer::Silent { why }) => Finding::unchecked(Rule::Address, "address", format!("{name} can't look whether somebody has {address}: {why}.")),
        _ => Finding::unchecked(Rule::Address, "address", format!("Nobody looked yet whether somebody has {address}; the run looks first.")),
    });
}

/// The address that was typed, or the next free virtual one; none where something stops it.
fn address(draft: &mut Draft<'_>, ask: &PutFront, network: &Network) -> Option<IpAddr> {
    let mut taken = network.taken(draft.estate());
    let kept = ask.front.and_then(|f| draft.estate().fronts.get(&f)).filter(|f| f.network == network.id).map(|f| f.address);
    // One address may carry several ports, each a front of its own.
    let fronts: Vec<(IpAddr, u16, String)> = draft.estate().fronts.values().filter(|f| Some(f.id) != ask.front).map(|f| (f.address, f.port, f.name.clone())).collect();
    fronts.iter().for_each(|(a, ..)| drop(taken.remove(a)));
    kept.iter().for_each(|a| drop(taken.remove(a)));
    let Some(address) = ask.address else {
        let all: BTreeSet<IpAddr> = taken.keys().copied().chain(fronts.iter().map(|(a, ..)| *a)).collect();
        let found = lowest_free(network, Part::Virtual, &all, draft.now).into_iter().next();
        return match found {
            Some(Ok(address)) => {
                let text = format!("It gets {address}, the lowest free of the virtual addresses of {}.", network.name);
                draft.found(Finding::clear(Rule::Address, "address", text));
                Some(address)
            }
            Some(Err(words)) => {
                draft.found(stop("address", Rule::Address, words));
                None
            }
            None => {
                let text = format!("{} has no range of virtual addresses.", network.name);
                draft.found(stop("address", Rule::Address, text).remedy("Give the network a range that is for virtual addresses, or choose another network."));
                None
            }
        };
    };
    let clash = fronts.iter().find(|(a, p, _)| (*a, *p) == (address, ask.port));
    let ranges = network.subnets.iter().flat_map(|s| &s.ranges);
    let set_aside = ranges.filter(|r| r.part == Part::Virtual).any(|r| r.contains(address));
    let found = match (usable(network, address), taken.get(&address), clash) {
        (Err(words), ..) => stop("address", Rule::Address, words),
        (Ok(()), Some((who, _)), _) => stop("address", Rule::Address, format!("{address} belongs to {who}.")),
        (Ok(()), None, Some((_, port, name))) => stop("port", Rule::Address, format!("{address} port {port} is {name} already.")),
        (Ok(()), None, None) if !set_aside => {
            let text = format!("{address} is in no range of virtual addresses of {}.", network.name);
            stop("address", Rule::Address, text).remedy("Choose one of its virtual addresses, or give the network a range of them.")
        }
        (Ok(()), None, None) => Finding::clear(Rule::Address, "address", format!("{address} is free.")),
    };
    let fine = !found.stops();
    draft.found(found);
    fine.then_some(address)
}

/// What it shows by TLS; nothing where TLS does not end there. A *stop* is an error.
fn certificate(draft: &mut Draft<'_>, ask: &PutFront, before: Option<&Front>) -> Result<Option<Box<Certificate>>, ()> {
    if ask.manner.protocol != Protocol::Https {
        return Ok(None);
    }
    let held = before.and_then(|b| b.certificate.as_deref());
    let Some(shown) = ask.shown.clone().or_else(|| held.map(|h| h.shown.clone())) else {
        draft.found(stop("certificate", Rule::Identity, "Paste the certificate that is shown, in PEM, its own first."));
        return Err(());
    };
    let same = held.filter(|h| h.shown.pem == shown.pem);
    let key = match (ask.key, same) {
        (Password::Kept(key), _) => key,
        (Password::Typed, _) => SecretRef(uuid::Uuid::nil()),
        (Password::Missing, Some(held)) => held.key,
        (Password::Missing, None) => {
            draft.found(stop("password", Rule::Password, "Paste the private key that belongs to the certificate, in PEM."));
            return Err(());
        }
    };
    let names = shown.names.join(", ");
    let left = shown.until.since(draft.now);
    let finding = match shown.standing(draft.now) {
        Validity::Over => stop("certificate", Rule::Identity, format!("The certificate for {names} has run out.")),
        Validity::Early => stop("certificate", Rule::Identity, format!("The certificate for {names} is not valid yet.")),
        Validity::Ending => {
            let text = format!("The certificate for {names} runs out in {left}.");
            Finding::mind(Rule::Identity, "certificate", text).at("certificate").remedy("Renew it in time: change the front then.")
        }
        Validity::Good => Finding::clear(Rule::Identity, "certificate", format!("The certificate is for {names}, and good for {left}.")),
    };
    let stops = finding.stops();
    draft.found(finding);
    if stops { Err(()) } else { Ok(Some(Box::new(Certificate { shown, key }))) }
}

fn manner(draft: &mut Draft<'_>, manner: &Manner) {
    let secs = |span: Span| span.0 / 1000;
    let health = &manner.health;
    if manner.sticks == Sticks::Cookie && !manner.protocol.reads() {
        let text = "A cookie can only be read in HTTP, or in HTTPS.";
        draft.found(stop("sticks", Rule::State, text).remedy("Choose HTTP, or the source."));
    }
    if !EVERY.contains(&secs(health.every)) {
        draft.found(stop("every", Rule::Count, format!("Health is asked every {} to {} seconds.", EVERY.start(), EVERY.end())));
    }
    for (field, n) in [("falls", health.falls), ("rises", health.rises)] {
        if !IN_A_ROW.contains(&n) {
            draft.found(stop(field, Rule::Count, format!("From {} to {} in a row.", IN_A_ROW.start(), IN_A_ROW.end())));
        }
    }
    if !DRAIN.contains(&secs(manner.drain)) {
        draft.found(stop("drain", Rule::Count, format!("From {} to {} seconds.", DRAIN.start(), DRAIN.end())));
    }
    match &health.check {
        Check::Tcp if manner.protocol.reads() => {
            let text = "A member that takes connections and answers nothing but errors counts as healthy.";
            draft.found(Finding::mind(Rule::State, "health", text).at("check").remedy("Ask for a path that shows that it works."));
        }
        Check::Tcp => {}
        Check::Http { path, status, .. } => {
            if !path.starts_with('/') || path.contains(|c: char| c.is_whitespace()) {
                draft.found(stop("path", Rule::State, "A path begins with / and has no spaces, such as /health."));
            }
            if !(100..=599).contains(status) {
                draft.found(stop("status", Rule::Count, "A status is from 100 to 599; healthy is 200 as a rule."));
            }
        }
    }
}

/// Who stands behind it, and what happens when one of their hosts fails.
fn members(draft: &mut Draft<'_>, front: &Front) {
    let label = front.label.trim();
    if label.is_empty() {
        return draft.found(stop("label", Rule::Nothing, "Type the label of the machines that shall serve it, such as app=web."));
    }
    let estate = draft.estate();
    let (all, members) = (fronts::labelled(estate, front), fronts::members(estate, front));
    let lacking: Vec<&str> = all.iter().filter(|m| fronts::address(front, m).is_none()).map(|m| m.name.as_str()).collect();
    let family = if front.address.is_ipv4() { "IPv4" } else { "IPv6" };
    let mut found = Vec::new();
    if !lacking.is_empty() {
        let text = format!("{} have no {family} address; nothing can be passed on to them.", lacking.join(", "));
        found.push(Finding::mind(Rule::Address, label, text).at("label"));
    }
    let serving: Vec<_> = members.iter().filter(|m| m.admitted).collect();
    let names = |of: &[&fronts::Member]| of.iter().take(8).map(|m| format!("{} {}", m.machine.name, m.at)).collect::<Vec<_>>().join(", ");
    let hosts: BTreeSet<HostId> = serving.iter().filter_map(|m| m.machine.host).collect();
    found.push(match (members.len(), serving.as_slice()) {
        (0, _) => {
            let text = format!("No machine with an address carries {label}; the front serves nobody until one does.");
            Finding::mind(Rule::Label, label, text).at("label")
        }
        (n, []) => Finding::mind(Rule::State, label, format!("None of the {n} machines with {label} runs; the front serves nobody until one does.")).at("label"),
        (_, [only]) => {
            let text = format!("{} alone serves it: when it stops, nobody does.", only.machine.name);
            Finding::mind(Rule::Label, label, text).at("label")
        }
        (_, many) if hosts.len() == 1 => {
            let text = format!("All {} that serve it run on one host.", many.len());
            let mind = Finding::mind(Rule::Apart, label, text).because(names(many)).at("label");
            mind.remedy("Keep them apart by a rule of their cluster.")
        }
        (n, many) => {
            let text = format!("{} of {n} machines with {label} serve it, on {} hosts.", many.len(), hosts.len());
            Finding::clear(Rule::Label, label, text).because(names(many))
        }
    });
    found.push(Finding::clear(Rule::State, label, "A member is taken out before it stops or moves, and comes back by itself."));
    draft.found_all(found);
}

pub(super) fn remove(draft: &mut Draft<'_>, id: FrontId) {
    "Remove a front".clone_into(&mut draft.title);
    let Some(front) = draft.estate().fronts.get(&id).cloned() else {
        return draft.found(stop("front", Rule::Exists, "This front is gone."));
    };
    draft.title = format!("Remove front {}", front.name);
    let at = SocketAddr::new(front.address, front.port);
    let text = format!("Nobody answers at {at} any more; open connections end. Its machines go on.");
    draft.found(Finding::mind(Rule::State, &front.name, text));
    let Some(balancer) = balancer(draft, Some(front.balancer)) else { return };
    let dropped = draft.step(Step::Drop { front: id }, format!("Take it away from {}", balancer.name), &[], None);
    draft.step(Step::Gone { front: id }, format!("{} is no more", front.name), &[dropped], None);
}

pub(super) fn follow(draft: &mut Draft<'_>, id: FrontId) {
    "Members of a front".clone_into(&mut draft.title);
    let Some(front) = draft.estate().fronts.get(&id).cloned() else {
        return draft.found(stop("front", Rule::Exists, "This front is gone."));
    };
    draft.title = format!("Members of {}", front.name);
    if !fronts::is_due(draft.view, &front) {
        return draft.found(stop("front", Rule::Nothing, "Its members are as they should be."));
    }
    let Some(balancer) = balancer(draft, Some(front.balancer)) else { return };
    draft.step(Step::Set { front: id }, format!("Tell {} who serves {}", balancer.name, front.name), &[], None);
}
