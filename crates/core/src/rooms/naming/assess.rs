//! The checks of a zone and its servers, and what follows for the names that stand elsewhere.

use super::{Draft, SetNames, Step};
use crate::{
    endpoint::Password,
    estate::{Cluster, Dns, Host, Machine, TsigKey},
    evidence::{Answer, Probe},
    finding::{Finding, Rule},
    ids::{ClusterId, HostId, SecretRef},
    limits,
    moment::Moment,
    names,
    text::Line,
    view::View,
};
use std::{collections::BTreeSet, net::{IpAddr, SocketAddr}, sync::Arc};

/// The port of name servers (RFC 1035, section 4.2).
const PORT: u16 = 53;
/// Names that one run brings in line; the next takes the rest.
const MOST: usize = 500;
/// The longest name there may be (RFC 1035, section 2.3.4), in octets as text.
const LONGEST: usize = 253;

fn stop(field: &str, rule: Rule, text: impl Into<String>) -> Finding {
    Finding::stop(rule, field, text).at(field)
}

pub(super) fn set(draft: &mut Draft<'_>, ask: &SetNames) {
    "Names in DNS".clone_into(&mut draft.title);
    let Some(cluster) = draft.estate().clusters.get(&ask.cluster).cloned() else {
        return draft.found(stop("zone", Rule::Exists, "The cluster is gone."));
    };
    draft.title = format!("Names in DNS of {}", cluster.name);
    let zone = ask.zone.trim().trim_end_matches('.').to_lowercase();
    let dns = if zone.is_empty() {
        None
    } else {
        match described(draft, &cluster, ask, zone) {
            Some(dns) => Some(dns),
            None => return,
        }
    };
    let before = cluster.dns.as_deref();
    if before == dns.as_ref() {
        return draft.found(stop("zone", Rule::Nothing, "Nothing is changed yet."));
    }
    let mut after = Vec::new();
    if let Some(dns) = &dns {
        let title = format!("Enter a name in {} and take it out again", dns.zone);
        let step = Step::Try { cluster: cluster.id, dns: dns.clone() };
        after.push(draft.step(step, title, &[], Some("servers")));
        due(draft, &cluster, dns);
    }
    // Another key or another server of the same zone is told the same names.
    let moves = before.is_some_and(|b| dns.as_ref().is_none_or(|d| d.zone != b.zone));
    let left = moves && ask.leave;
    if moves {
        after.extend(elsewhere(draft, &cluster, ask.leave, &after.clone()));
    }
    let step = Step::Keep { cluster: cluster.id, dns: dns.clone(), left };
    let title = match &dns {
        Some(dns) => format!("Names stand in {} from now on", dns.zone),
        None => "Machines have no names any more".into(),
    };
    draft.step(step, title, &after, None);
}

/// What was typed, where it can be one.
fn described(draft: &mut Draft<'_>, cluster: &Cluster, ask: &SetNames, zone: String) -> Option<Dns> {
    let wrong = zone.split('.').find_map(|label| names::check(label).err());
    if let Some(words) = wrong {
        draft.found(stop("zone", Rule::Name, format!("“{zone}” is no zone: {words}")));
        return None;
    }
    if zone.len() + limits::NAME.most + 1 > LONGEST {
        draft.found(stop("zone", Rule::Name, format!("{zone} is too long: names in it would have more than {LONGEST} characters.")));
        return None;
    }
    let mut servers = Vec::new();
    for typed in ask.servers.iter().map(|s| s.trim()).filter(|s| !s.is_empty()) {
        match at_server(typed) {
            Some(at) => servers.push(at),
            None => {
                draft.found(stop("servers", Rule::Address, format!("“{typed}” is no address of a name server, such as 10.1.2.53.")));
                return None;
            }
        }
    }
    if servers.is_empty() {
        draft.found(stop("servers", Rule::Nothing, "Type the address of a name server that takes changes of this zone."));
        return None;
    }
    answers(draft, &servers, &zone);
    let key = key(draft, cluster, ask)?;
    Some(Dns { zone, servers, key })
}

/// `ip:port` of a name server, as typed with or without its port.
fn at_server(typed: &str) -> Option<String> {
    let at = typed.parse::<SocketAddr>().ok();
    let at = at.or_else(|| Some(SocketAddr::new(typed.parse::<IpAddr>().ok()?, PORT)))?;
    Some(at.to_string())
}

/// Whether each of them is in charge of the zone.
fn answers(draft: &mut Draft<'_>, servers: &[String], zone: &str) {
    let mut serials = BTreeSet::new();
    for server in servers {
        let probe = Probe::Zone { server: server.clone(), zone: zone.to_owned() };
        let finding = match draft.view.evidence.fresh(&probe, draft.now) {
            Some(Answer::Zone { serial: Some(serial) }) => {
                serials.insert(*serial);
                let text = format!("{server} is in charge of {zone}.");
                Finding::clear(Rule::Reachable, server, text).because(format!("serial {serial}"))
            }
            Some(Answer::Zone { serial: None }) => {
                let text = format!("{server} answers and is not in charge of {zone}.");
                stop("servers", Rule::Reachable, text).remedy("Name a server that has the zone as its primary.")
            }
            Some(Answer::Silent { why }) => stop("servers", Rule::Reachable, format!("{server} does not answer: {why}.")),
            _ => Finding::unchecked(Rule::Reachable, server, format!("{server} was not asked yet; the run asks it first.")),
        };
        draft.found(finding);
    }
    if serials.len() > 1 {
        let text = "They have different versions of the zone; a name that one is told comes to the others later.";
        draft.found(Finding::mind(Rule::Reachable, "servers", text).at("servers"));
    }
}

/// None where it is refused; `Some(None)`: nothing is signed.
fn key(draft: &mut Draft<'_>, cluster: &Cluster, ask: &SetNames) -> Option<Option<TsigKey>> {
    let name = ask.key.trim().trim_end_matches('.').to_lowercase();
    if name.is_empty() {
        let text = "Changes are not signed: whoever can send packets in its name can change names.";
        draft.found(Finding::mind(Rule::Password, "key", text).at("key"));
        return Some(None);
    }
    if let Some(words) = name.split('.').find_map(|l| names::check(l).err()) {
        draft.found(stop("key", Rule::Name, format!("“{name}” is no key's name: {words}")));
        return None;
    }
    let kept = cluster.dns.as_ref().and_then(|d| d.key.as_ref());
    let secret = match ask.secret {
        Password::Kept(secret) => secret,
        Password::Typed => SecretRef(uuid::Uuid::nil()),
        Password::Missing => match kept.filter(|k| k.name == name) {
            Some(kept) => kept.secret,
            None => {
                draft.found(stop("password", Rule::Password, "Type the secret of this key, in base64."));
                return None;
            }
        },
    };
    Some(Some(TsigKey { name, secret }))
}

/// What comes of it for machines that are there.
fn due(draft: &mut Draft<'_>, cluster: &Cluster, dns: &Dns) {
    let all: Vec<&Arc<Machine>> = draft.estate().machines_in(cluster.id).filter(|m| m.deleted.is_none()).collect();
    let odd: Vec<&str> = all.iter().filter(|m| names::check(&m.name).is_err()).map(|m| m.name.as_str()).collect();
    let hosts = draft.estate().hosts_in(cluster.id).count();
    let n = all.iter().filter(|m| m.nics.iter().any(|n| !n.addresses.is_empty())).count();
    let text = format!("{n} of {} machines have addresses and get a name in {}; the others when they have one.", all.len(), dns.zone);
    let odd_text = (!odd.is_empty()).then(|| format!("{} can't be a name in DNS; they get none.", odd.join(", ")));
    draft.found(Finding::clear(Rule::Name, &cluster.name, text).because(format!("and {hosts} hosts, each for its own address")));
    draft.found_all(odd_text.map(|text| Finding::mind(Rule::Name, "names", text).remedy("Give them names of a–z, digits and hyphens.")));
}

/// The names that stand in the zone that is given up. Answers the steps.
fn elsewhere(draft: &mut Draft<'_>, cluster: &Cluster, leave: bool, after: &[usize]) -> Vec<usize> {
    let named: Vec<Arc<Machine>> = draft.estate().machines_in(cluster.id).filter(|m| m.entered.is_some()).cloned().collect();
    let hosts: Vec<Arc<Host>> = draft.estate().hosts_in(cluster.id).filter(|h| h.entered.is_some()).cloned().collect();
    let all = named.len() + hosts.len();
    if all == 0 {
        return vec![];
    }
    if leave {
        let text = format!("{all} names stay where they are; nobody takes them out later.");
        draft.found(Finding::mind(Rule::Name, "names", text).at("leave"));
        return vec![];
    }
    let text = format!("{all} names are taken out where they stand until now.");
    draft.found(Finding::clear(Rule::Name, "names", text));
    let of_machines = named.iter().map(|m| (Step::Withdraw { cluster: cluster.id, machine: m.id }, &m.name));
    let of_hosts = hosts.iter().map(|h| (Step::WithdrawHost { cluster: cluster.id, host: h.id }, &h.name));
    let steps: Vec<(Step, String)> = of_machines.chain(of_hosts).map(|(step, name)| (step, format!("Take the name of {name} out"))).collect();
    steps.into_iter().map(|(step, title)| draft.step(step, title, after, Some("leave"))).collect()
}

pub(super) fn follow(draft: &mut Draft<'_>, cluster: ClusterId) {
    "Names in DNS".clone_into(&mut draft.title);
    let Some(found) = draft.estate().clusters.get(&cluster).cloned() else {
        return draft.found(stop("zone", Rule::Exists, "The cluster is gone."));
    };
    let estate = draft.estate();
    let machines = estate.machines_in(cluster).filter(|m| estate.name_due(m).is_some());
    let machines = machines.map(|m| (m.name.clone(), Step::Bring { cluster, machine: m.id }));
    let hosts = estate.hosts_in(cluster).filter(|h| estate.host_name_due(h).is_some());
    let hosts = hosts.map(|h| (h.name.clone(), Step::BringHost { cluster, host: h.id }));
    let mut due: Vec<(String, Step)> = hosts.chain(machines).collect();
    due.sort_by(|a, b| a.0.cmp(&b.0));
    due.truncate(MOST);
    draft.title = match due.as_slice() {
        [(one, _)] => format!("Name of {one}"),
        all => format!("{} names of {}", all.len(), found.name),
    };
    if due.is_empty() {
        return draft.found(stop("zone", Rule::Nothing, "All names are as they should be."));
    }
    for (name, step) in due {
        draft.step(step, format!("Name of {name}"), &[], None);
    }
}

/// A cluster that is made has its names where another has them: its zone is tried first, and its names stand there once it is
/// ready; then its hosts get theirs. Answers nothing where the servers say no.
pub fn same(draft: &mut Draft<'_>, cluster: ClusterId, like: &Cluster, hosts: &[(HostId, String)]) {
    let Some(dns) = like.dns.as_deref() else {
        let text = format!("{} has no names in DNS.", like.name);
        return draft.found(Finding::stop(Rule::Nothing, "names", text).at("names"));
    };
    answers(draft, &dns.servers, &dns.zone);
    let step = Step::Try { cluster, dns: dns.clone() };
    let tried = draft.step(step, format!("Enter a name in {} and take it out again", dns.zone), &[], Some("names"));
    let step = Step::Keep { cluster, dns: Some(dns.clone()), left: false };
    let kept = draft.step(step, format!("Names of hosts and machines stand in {}", dns.zone), &[tried], None);
    of_hosts(draft, cluster, hosts, &[kept]);
}

/// The names of new hosts are entered; then each of them is asked whether it is told them.
pub fn of_hosts(draft: &mut Draft<'_>, cluster: ClusterId, hosts: &[(HostId, String)], after: &[usize]) {
    let entered: Vec<usize> = hosts
        .iter()
        .map(|(host, name)| draft.step(Step::BringHost { cluster, host: *host }, format!("Name of {name}"), after, Some("names")))
        .collect();
    for (host, name) in hosts {
        draft.step(Step::AskFrom { cluster, host: *host }, format!("{name} is told the names of hosts"), &entered, Some("names"));
    }
}

/// The servers that were typed and can be asked.
pub fn servers(typed: &[Line]) -> Vec<String> {
    typed.iter().filter_map(|t| at_server(t.trim())).collect()
}

/// A name that a new host shall have: with its zone, its address, and the fields in which both stand.
pub struct NewName {
    pub name: String,
    pub address: IpAddr,
    pub fields: (String, String),
}

/// The server that is asked of names: the first that was found in charge.
pub fn asked<'a>(view: &View, dns: &'a Dns, now: Moment) -> Option<&'a String> {
    dns.servers.iter().find(|server| {
        let probe = Probe::Zone { server: (*server).clone(), zone: dns.zone.clone() };
        matches!(view.evidence.fresh(&probe, now), Some(Answer::Zone { serial: Some(_) }))
    })
}

/// Whether the names that hosts shall have are free there, forward and back: what somebody else entered is not overwritten.
pub fn free(draft: &mut Draft<'_>, dns: &Dns, all: &[NewName]) {
    let Some(server) = asked(draft.view, dns, draft.now) else { return };
    let (mut fine, mut unasked) = (0, 0);
    for new in all {
        let NewName { name, address, fields: (name_field, address_field) } = new;
        let probe = Probe::Named { server: server.clone(), name: name.clone(), address: *address };
        let Some(Answer::Named { forward, back }) = draft.view.evidence.fresh(&probe, draft.now) else {
            unasked += 1;
            continue;
        };
        let foreign: Vec<String> = forward.iter().filter(|a| *a != address).map(ToString::to_string).collect();
        let elsewhere: Vec<&str> = back.iter().filter(|n| !n.eq_ignore_ascii_case(name)).map(String::as_str).collect();
        fine += usize::from(foreign.is_empty() && elsewhere.is_empty());
        let taken = (!foreign.is_empty()).then(|| {
            let text = format!("{name} leads to {} already, entered by somebody else.", foreign.join(", "));
            stop(name_field, Rule::Name, text).remedy("Give the host another name, or take that one out at the name server.")
        });
        let back = (!elsewhere.is_empty()).then(|| {
            let text = format!("{address} leads back to {} already; that stays as it is.", elsewhere.join(", "));
            Finding::mind(Rule::Name, name, text).at(address_field).remedy("Take that out at the name server, where it is of nobody any more.")
        });
        draft.found_all(taken.into_iter().chain(back));
    }
    if unasked > 0 {
        let text = format!("Nobody asked yet who has {} of hosts in {}.", many(unasked), dns.zone);
        draft.found(Finding::unchecked(Rule::Name, "names", text).at("names"));
    }
    if fine > 0 {
        let text = format!("{} of hosts in {} can be had, forward and back.", many(fine), dns.zone);
        draft.found(Finding::clear(Rule::Name, "names", text).because(format!("asked at {server}")));
    }
}

fn many(names: usize) -> String {
    match names {
        1 => "1 name".to_owned(),
        n => format!("{n} names"),
    }
}
