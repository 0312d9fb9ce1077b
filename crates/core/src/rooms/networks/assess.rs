//! Switches and networks: connecting, creating on all hosts of a cluster, mending drift, removing (rules, section 7).

use super::{ChangeNetwork, ConnectSwitch, CreateNetwork, Draft, Event, Step};
use crate::{
    addressing::check,
    estate::{Amiss, Cluster, Controller, Host, NetRole, Network, Standing, Subnet, Switch, wire},
    evidence::Probe,
    finding::{Finding, Rule},
    ids::{NetworkId, SecretRef, SwitchId},
    limits,
    names,
    endpoint::Password,
    text::Line,
};
use std::sync::Arc;

/// The smallest MTU that IPv6 allows (RFC 8200, section 5), and the largest that switches usually carry.
const MTUS: std::ops::RangeInclusive<u32> = 1280..=9216;
/// Below this an uplink that carries storage and guests together is worth a thought.
const SHARED_MBIT: u64 = 25_000;

pub(super) fn connect_switch(draft: &mut Draft<'_>, ask: &ConnectSwitch) {
    "Connect a switch".clone_into(&mut draft.title);
    let address = &ask.target.address;
    if address.is_empty() {
        let text = "Type the management address of the switch.";
        return draft.found(Finding::stop(Rule::Nothing, "address", text).at("address"));
    }
    if ask.password == Password::Missing {
        let text = "Type the password of a user that may read.";
        draft.found(Finding::stop(Rule::Password, "password", text).at("password"));
    }
    let site = draft.site(&ask.site);
    if let Some(known) = draft
        .estate()
        .switches
        .values()
        .find(|s| s.access.address == *address)
    {
        let text = format!("{address} is {}, which is connected already.", known.name);
        return draft.found(Finding::stop(Rule::Owner, address, text).at("address"));
    }
    let probe = Probe::SwitchGreeting(address.to_string());
    let Some(name) = draft.manager(&probe, &ask.target, false, "address") else {
        return;
    };
    if draft.estate().switch_named(&name).is_some() {
        let text = format!("There is a switch {name} already.");
        draft.found(Finding::stop(Rule::Name, &name, text).at("address"));
    }
    let Some(site) = site else { return };
    draft.title = format!("Connect {name}");
    draft.found(Finding::clear(
        Rule::Permit,
        &name,
        "It is only read; nothing is changed on it.",
    ));
    let id = SwitchId(draft.number());
    let key = match ask.password {
        Password::Kept(secret) => Some(secret),
        Password::Typed => Some(SecretRef(uuid::Uuid::nil())),
        Password::Missing => None,
    };
    draft.intend(Event::SwitchConnecting(Box::new(Switch {
        id,
        name: name.clone(),
        site,
        access: Controller {
            address: address.to_string(),
            pin: ask.target.pin.to_string(),
            silent: None,
        },
        user: ask.user.trim().to_owned(),
        key,
        ports: Default::default(),
        known: false,
    })));
    let title = format!("Sign in on {name} and read its ports");
    draft.step(
        Step::ReadSwitch { switch: id },
        title,
        &[],
        Some("password"),
    );
}

/// `tried`: it is ready once packets got through from every host.
pub fn create(draft: &mut Draft<'_>, ask: &CreateNetwork, tried: bool) {
    let name = ask.name.trim();
    let place = ask.cluster.and_then(|c| draft.estate().clusters.get(&c));
    let place = place.map_or_else(String::new, |c| format!(" on {}", c.name));
    draft.title = format!("Create network {name}{place}");
    let cluster = ask
        .cluster
        .and_then(|c| draft.estate().clusters.get(&c))
        .cloned();
    let Some(cluster) = cluster else {
        let text = "Choose the cluster whose hosts shall have it.";
        return draft.found(Finding::stop(Rule::Exists, "cluster", text).at("cluster"));
    };
    check_name(draft, name, &cluster);
    check_wire(draft, ask, &cluster);
    if let Err(words) = limits::SUBNETS.check(ask.subnets.len()) {
        draft.found(Finding::stop(Rule::Subnet, name, words).at("subnets"));
    }
    for subnet in &ask.subnets {
        for (field, words) in check(subnet) {
            draft.found(Finding::stop(Rule::Subnet, name, words).at(field));
        }
    }
    check_domain(draft, ask, &cluster);
    let mut hosts: Vec<Arc<Host>> = draft.estate().hosts_in(cluster.id).cloned().collect();
    hosts.sort_by(|a, b| a.name.cmp(&b.name));
    check_hosts(draft, ask, &hosts, &CREATE);
    let id = NetworkId(draft.number());
    draft.intend(Event::Planned(Box::new(Network {
        id,
        name: name.to_owned(),
        cluster: cluster.id,
        role: ask.role,
        vlan: ask.vlan,
        mtu: ask.mtu,
        subnets: ask.subnets.clone(),
        uplinks: ask.uplinks.clone(),
        reserved: Default::default(),
        released: Default::default(),
        ready: false,
        note: String::new(),
    })));
    let mut last: Vec<usize> = hosts.iter().map(|h| set_up(draft, id, h)).collect();
    if tried && !ask.is_isolated() {
        let set = last;
        last = try_out(draft, (id, name), &hosts, &set);
        if ask.subnets.iter().any(|s| s.gateway.is_some()) {
            last.extend(hosts.iter().zip(&set).map(|(host, set)| ask_gateway(draft, (id, name), host, *set)));
        }
    }
    let ready = Step::Ready { network: id };
    draft.step(ready, format!("{name} is ready"), &last, None);
}

/// From each host to the next, and from the last to the first: where one end is wrong, a packet to it or from it is lost.
fn try_out(draft: &mut Draft<'_>, (network, name): (NetworkId, &str), hosts: &[Arc<Host>], set: &[usize]) -> Vec<usize> {
    let n = hosts.len();
    if n < 2 {
        return set.to_vec();
    }
    let tries = (0..n).map(|i| {
        let (from, to) = (&hosts[i], &hosts[(i + 1) % n]);
        let title = format!("{name} carries packets from {} to {}", from.name, to.name);
        let step = Step::Try {
            network,
            host: from.id,
            to: to.id,
        };
        draft.step(step, title, &[set[i], set[(i + 1) % n]], Some("mtu"))
    });
    tries.collect()
}

fn ask_gateway(draft: &mut Draft<'_>, (network, name): (NetworkId, &str), host: &Host, set: usize) -> usize {
    let step = Step::Gateway { network, host: host.id };
    draft.step(step, format!("The gateway of {name} answers {}", host.name), &[set], Some("subnets"))
}

fn set_up(draft: &mut Draft<'_>, network: NetworkId, host: &Host) -> usize {
    let step = Step::Set {
        network,
        host: host.id,
    };
    let title = format!("Set it up on {}", host.name);
    draft.step(step, title, &[], Some("uplinks"))
}

fn check_name(draft: &mut Draft<'_>, name: &str, cluster: &Cluster) {
    let taken = draft
        .estate()
        .networks_of(cluster.id)
        .iter()
        .any(|n| n.name == name);
    let problem = match names::check(name) {
        Err(words) => Some(words),
        Ok(()) if taken => Some(format!("{} has a network {name} already.", cluster.name)),
        Ok(()) => None,
    };
    draft.found_all(problem.map(|text| Finding::stop(Rule::Name, "name", text).at("name")));
}

pub(super) fn check_wire(draft: &mut Draft<'_>, ask: &CreateNetwork, cluster: &Cluster) {
    if let Some(vlan) = ask.vlan
        && !(1..=4094).contains(&vlan)
    {
        let text = format!("{vlan} is no VLAN; they go from 1 to 4094.");
        draft.found(Finding::stop(Rule::Vlan, "vlan", text).at("vlan"));
    }
    if !MTUS.contains(&ask.mtu) {
        let text = format!("An MTU is from {} to {}.", MTUS.start(), MTUS.end());
        draft.found(Finding::stop(Rule::Mtu, "mtu", text).at("mtu"));
    }
    if ask.is_isolated() {
        let text = format!("No uplink carries {}: machines on it reach only those on the same host.", ask.name.trim());
        let mind = Finding::mind(Rule::Uplink, "uplinks", text).at("uplinks");
        draft.found(mind.remedy("Keep those that speak to each other together by a rule of their cluster."));
    } else if ask.uplinks.is_empty() {
        let text = "Choose the uplinks that carry it.";
        let stop = Finding::stop(Rule::Nothing, "uplinks", text).at("uplinks");
        draft.found(stop.remedy("A network of guests that shall leave no host has neither uplinks nor a VLAN."));
    }
    if let [_] = ask.uplinks.iter().collect::<Vec<_>>()[..] {
        let text = "One uplink alone: when it fails, the network is down on that host.";
        draft.found(Finding::mind(Rule::Uplink, "uplinks", text).at("uplinks"));
    }
    shared_uplink(draft, ask, cluster);
}

/// Storage and guests on one uplink below 25 Gbit/s.
fn shared_uplink(draft: &mut Draft<'_>, ask: &CreateNetwork, cluster: &Cluster) {
    let clash = match ask.role {
        NetRole::Guest => NetRole::Storage,
        NetRole::Storage => NetRole::Guest,
        NetRole::Management | NetRole::OutOfBand | NetRole::Discovery | NetRole::Heartbeat | NetRole::Migration | NetRole::Replication => return,
    };
    let networks = draft.estate().networks_of(cluster.id);
    let other = networks
        .iter()
        .find(|n| n.role == clash && !n.uplinks.is_disjoint(&ask.uplinks));
    let Some(other) = other else { return };
    let slow = draft.estate().hosts_in(cluster.id).any(|h| {
        h.uplinks
            .iter()
            .any(|u| ask.uplinks.contains(&u.name) && u.mbit < SHARED_MBIT)
    });
    if slow {
        let text = format!(
            "It shares an uplink below 25 Gbit/s with {}; guests and storage slow each other down.",
            other.name
        );
        draft.found(Finding::mind(Rule::Uplink, "uplinks", text).at("uplinks"));
    }
}

/// The same VLAN under two names, and ranges that meet those of another network there.
pub(super) fn check_domain(draft: &mut Draft<'_>, ask: &CreateNetwork, cluster: &Cluster) {
    if ask.is_isolated() {
        return;
    }
    let word = ask
        .vlan
        .map_or_else(|| "untagged".into(), |v| format!("VLAN {v}"));
    let same: Vec<Arc<Network>> = draft
        .estate()
        .same_domain(cluster.site, ask.vlan)
        .cloned()
        .collect();
    for other in same {
        let nets = |subnets: &[Subnet]| subnets.iter().map(|s| s.net).collect::<Vec<_>>();
        let text = format!("{word} is {} here already.", other.name);
        if other.mtu != ask.mtu {
            let why = format!("MTU {} there, {} here", other.mtu, ask.mtu);
            draft.found(
                Finding::stop(Rule::Vlan, &other.name, text)
                    .because(why)
                    .at("mtu"),
            );
        } else if nets(&other.subnets) != nets(&ask.subnets) {
            let why = "its subnets are others";
            draft.found(
                Finding::stop(Rule::Vlan, &other.name, text)
                    .because(why)
                    .at("vlan"),
            );
        } else {
            draft.found(Finding::mind(Rule::Vlan, &other.name, text).at("vlan"));
        }
        let ours = ask.subnets.iter().flat_map(|s| &s.ranges);
        for range in ours {
            let theirs = other.subnets.iter().flat_map(|s| &s.ranges);
            if let Some(clash) = theirs.into_iter().find(|r| r.overlaps(range)) {
                let text = format!(
                    "{}–{} meets {}–{} of {}.",
                    range.first, range.last, clash.first, clash.last, other.name
                );
                draft.found(Finding::stop(Rule::Subnet, &other.name, text).at("ranges"));
            }
        }
    }
}

/// Fields of the sheet where what is wrong with a host is said; a network that is there keeps its cluster and its VLAN.
pub(super) struct At {
    cluster: Option<&'static str>,
    vlan: &'static str,
}
pub(super) const CREATE: At = At {
    cluster: Some("cluster"),
    vlan: "vlan",
};
const CHANGE: At = At {
    cluster: None,
    vlan: "uplinks",
};

impl At {
    fn of(&self, standing: &Standing) -> &'static str {
        match standing {
            Standing::Wire(fault) => match fault.what {
                Amiss::Down => "uplinks",
                Amiss::NoVlan(_) => self.vlan,
                Amiss::Mtu { .. } => "mtu",
            },
            Standing::Fine | Standing::Unchecked(_) | Standing::Missing | Standing::Differs(_) => self.vlan,
        }
    }
}

/// Every host must answer and have the uplinks; each switch port is looked at.
pub(super) fn check_hosts(draft: &mut Draft<'_>, ask: &CreateNetwork, hosts: &[Arc<Host>], at: &At) {
    let mut fine = 0;
    for host in hosts {
        let name = &host.name;
        if !host.accepts_work() {
            let text = format!("{name} does not answer; it would be left out.");
            let finding = Finding::stop(Rule::HostOpen, name, text)
                .remedy("Wait until it answers, so that every host gets the network.");
            draft.found(match at.cluster {
                Some(field) => finding.at(field),
                None => finding,
            });
            continue;
        }
        let missing: Vec<_> = ask
            .uplinks
            .iter()
            .filter(|u| host.uplinks.iter().all(|h| h.name != **u))
            .cloned()
            .collect();
        if !missing.is_empty() {
            let text = format!("{name} has no uplink {}.", missing.join(", "));
            draft.found(Finding::stop(Rule::Uplink, name, text).at("uplinks"));
            continue;
        }
        let uplinks = host
            .uplinks
            .iter()
            .filter(|u| ask.uplinks.contains(&u.name));
        let mut clear = true;
        for uplink in uplinks {
            let standing = match wire(draft.estate(), uplink, ask.vlan, ask.mtu) {
                Ok(()) => continue,
                Err(standing) => standing,
            };
            let field = at.of(&standing);
            let finding = match standing {
                Standing::Unchecked(why) => {
                    let text = format!("{name}, {}: {why}.", uplink.name);
                    Finding::unchecked(Rule::Wire, name, text)
                }
                bad @ (Standing::Fine | Standing::Missing | Standing::Differs(_) | Standing::Wire(_)) => {
                    let text = format!("{name}, {}: {}.", uplink.name, bad.words());
                    Finding::stop(Rule::Wire, name, text).remedy("Correct the switch port first.")
                }
            };
            clear = false;
            draft.found(finding.at(field));
        }
        fine += usize::from(clear);
    }
    // With one that is wrong, "clear: switch ports" beside it would read as its opposite.
    if fine == hosts.len() && fine > 0 && !ask.is_isolated() {
        let text = format!("The switch ports of {fine} hosts carry it.");
        draft.found(Finding::clear(Rule::Wire, "ports", text));
    }
}

fn known(draft: &mut Draft<'_>, id: NetworkId) -> Option<Arc<Network>> {
    let found = draft.estate().networks.get(&id).cloned();
    if found.is_none() {
        let text = "This network is gone.";
        draft.found(Finding::stop(Rule::Exists, id.to_string(), text));
    }
    found
}

/// The cluster that it is on: networks of several clusters may be called the same.
fn place(draft: &Draft<'_>, network: &Network) -> String {
    let cluster = draft.estate().clusters.get(&network.cluster);
    cluster.map_or_else(|| "its cluster".into(), |c| c.name.clone())
}

pub(super) fn heal(draft: &mut Draft<'_>, id: NetworkId) {
    "Mend a network".clone_into(&mut draft.title);
    let Some(network) = known(draft, id) else {
        return;
    };
    draft.title = format!("Set {} up again on {} where it differs", network.name, place(draft, &network));
    let mut hosts: Vec<Arc<Host>> = draft.estate().hosts_in(network.cluster).cloned().collect();
    hosts.sort_by(|a, b| a.name.cmp(&b.name));
    let mut mended = 0;
    for host in hosts.iter().filter(|h| h.accepts_work()) {
        let standing = network.standing(draft.estate(), host);
        let text = format!("{}: {}.", host.name, standing.words());
        if standing.drifts() {
            draft.found(Finding::clear(Rule::Drift, &host.name, text));
            set_up(draft, id, host);
            mended += 1;
        } else if standing.bad() {
            draft.found(
                Finding::mind(Rule::Wire, &host.name, text)
                    .remedy("Correct this on the switch; Zastrugi only reads it."),
            );
        }
    }
    if mended == 0 {
        let text = format!(
            "Every host that answers has {} as it was meant.",
            network.name
        );
        draft.found(Finding::stop(Rule::Nothing, &network.name, text));
    }
}

pub(super) fn remove(draft: &mut Draft<'_>, id: NetworkId, typed: &Line) {
    "Remove a network".clone_into(&mut draft.title);
    let Some(network) = known(draft, id) else {
        return;
    };
    draft.title = format!("Remove {} from {}", network.name, place(draft, &network));
    let on_it: Vec<_> = network
        .machines(draft.estate())
        .map(|m| m.name.clone())
        .collect();
    if !on_it.is_empty() {
        let shown: Vec<_> = on_it.iter().take(8).cloned().collect();
        let text = format!("{} machines have a card on {}.", on_it.len(), network.name);
        return draft.found(
            Finding::stop(Rule::State, &network.name, text)
                .because(shown.join(", "))
                .remedy("Remove these machines for good, or put their cards elsewhere first."),
        );
    }
    if let Some(breaks) = breaks(draft, &network) {
        draft.found(Finding::mind(Rule::State, &network.name, breaks));
        if typed.as_str() != network.name {
            let text = format!("Type {} to confirm.", network.name);
            draft.found(Finding::stop(Rule::Protected, &network.name, text).at("typed"));
        }
    }
    let mut hosts: Vec<Arc<Host>> = draft.estate().hosts_in(network.cluster).cloned().collect();
    hosts.sort_by(|a, b| a.name.cmp(&b.name));
    let mut dropped = Vec::new();
    for host in hosts
        .iter()
        .filter(|h| h.networks.contains_key(&network.name))
    {
        if !host.accepts_work() {
            let text = format!("{} has it and does not answer.", host.name);
            draft.found(Finding::stop(Rule::HostOpen, &host.name, text));
        }
        let step = Step::Drop {
            network: id,
            host: host.id,
        };
        dropped.push(draft.step(step, format!("Take it off {}", host.name), &[], None));
    }
    let gone = Step::Gone { network: id };
    draft.step(gone, format!("{} is removed", network.name), &dropped, None);
}

/// What stops working without a network that hosts need for themselves.
fn breaks(draft: &Draft<'_>, network: &Network) -> Option<String> {
    let estate = draft.estate();
    let name = &network.name;
    let hosts = estate.hosts_in(network.cluster).count();
    let others = estate.networks_of(network.cluster);
    let last = others.iter().all(|n| n.id == network.id || n.role != network.role);
    let last = if last { " It is the only one for that." } else { "" };
    let what = match network.role {
        NetRole::Management => format!("{hosts} hosts are reached over {name}: what reaches them by it alone is lost."),
        NetRole::Storage => {
            let volumes = estate.clusters.get(&network.cluster).map_or(0, |c| estate.volumes_of(c).len());
            format!("{hosts} hosts reach {volumes} volumes over {name}: machines halt where no other way is left.")
        }
        NetRole::Migration => format!("Machines are moved over {name}: none can be moved without one for it."),
        NetRole::Heartbeat => format!("Hosts hear of each other over {name}: a silence can be told from a failure less well."),
        NetRole::Replication => format!("Copies go over {name}: they stop."),
        NetRole::OutOfBand => format!("Controllers are reached over {name}: hosts can't be switched off by them."),
        NetRole::Guest | NetRole::Discovery => return None,
    };
    Some(format!("{what}{last}"))
}

/// The same checks as for a new one, against what is there; hosts are set up again where something of theirs changes.
pub(super) fn change(draft: &mut Draft<'_>, ask: &ChangeNetwork) {
    "Change a network".clone_into(&mut draft.title);
    let Some(network) = known(draft, ask.network) else {
        return;
    };
    let Some(cluster) = draft.estate().clusters.get(&network.cluster).cloned() else {
        return;
    };
    draft.title = format!("Change {} on {}", network.name, cluster.name);
    let then = CreateNetwork {
        name: (&network.name).into(),
        cluster: Some(cluster.id),
        role: ask.role,
        vlan: network.vlan,
        mtu: ask.mtu,
        subnets: ask.subnets.clone(),
        uplinks: ask.uplinks.clone(),
    };
    let wired = network.mtu != ask.mtu || network.uplinks != ask.uplinks;
    if !wired && network.role == ask.role && sorted(&network.subnets) == sorted(&ask.subnets) {
        let text = "Nothing is changed yet.";
        return draft.found(Finding::stop(Rule::Nothing, "fields", text));
    }
    check_wire(draft, &then, &cluster);
    for subnet in &ask.subnets {
        for (field, words) in check(subnet) {
            draft.found(Finding::stop(Rule::Subnet, &network.name, words).at(field));
        }
    }
    left_out(draft, &network, &ask.subnets);
    if network.role != ask.role
        && let Some(text) = breaks(draft, &network)
    {
        draft.found(Finding::mind(Rule::State, &network.name, text));
    }
    draft.intend(Event::Changed {
        network: network.id,
        role: ask.role,
        mtu: ask.mtu,
        subnets: ask.subnets.clone(),
        uplinks: ask.uplinks.clone(),
    });
    if !wired {
        return;
    }
    let machines = network.machines(draft.estate()).filter(|m| !m.is_off()).count();
    if machines > 0 {
        let text = format!("While hosts set it up anew, packets of {machines} machines that are on can be lost.");
        draft.found(Finding::mind(Rule::Mtu, &network.name, text));
    }
    let mut hosts: Vec<Arc<Host>> = draft.estate().hosts_in(cluster.id).cloned().collect();
    hosts.sort_by(|a, b| a.name.cmp(&b.name));
    check_hosts(draft, &then, &hosts, &CHANGE);
    for host in &hosts {
        set_up(draft, network.id, host);
    }
}

/// The same whatever order they stand in.
fn sorted(subnets: &[Subnet]) -> Vec<Subnet> {
    let mut all = subnets.to_vec();
    all.iter_mut().for_each(|s| s.ranges.sort());
    all.sort_by_key(|s| s.net);
    all
}

/// Addresses that somebody has, or that are kept, and that no subnet holds any more.
fn left_out(draft: &mut Draft<'_>, network: &Network, subnets: &[Subnet]) {
    let taken = network.taken(draft.estate());
    let out: Vec<String> = taken
        .iter()
        .filter(|(a, (what, _))| what != "gateway" && !subnets.iter().any(|s| s.net.contains(*a)))
        .map(|(a, (what, _))| format!("{a} ({what})"))
        .collect();
    if let Some(first) = out.first() {
        let text = match out.len() {
            1 => format!("{first} would be in no subnet any more."),
            n => format!("{first} and {} more would be in no subnet any more.", n - 1),
        };
        let stop = Finding::stop(Rule::Subnet, &network.name, text).at("subnet");
        draft.found(stop.because(out.iter().take(8).cloned().collect::<Vec<_>>().join(", ")));
    }
}
