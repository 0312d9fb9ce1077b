//! What becomes of each object of a cluster that is taken over, computed from what its hosts say; nothing is written by it.

use super::TakeOver;
use crate::{
    endpoint::Password,
    estate::{Estate, HostNet, NetRole},
    evidence::{Answer, Greeting, Probe, SeenVolume},
    ids::{SecretRef, SiteId},
    inventory::{CarriedMachine, CarriedVolume, Former, Inventory},
    moment::{Moment, Span},
    view::View,
};
use std::{
    collections::{BTreeMap, BTreeSet},
    net::IpAddr,
};
use uuid::Uuid;

#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Kind {
    Host,
    Network,
    Volume,
    Machine,
    Other,
}

impl Kind {
    pub const ALL: [Kind; 5] = [Kind::Host, Kind::Network, Kind::Volume, Kind::Machine, Kind::Other];

    pub fn word(self) -> &'static str {
        match self {
            Kind::Host => "host",
            Kind::Network => "network",
            Kind::Volume => "volume",
            Kind::Machine => "machine",
            Kind::Other => "other",
        }
    }
    /// `1 host`, `14 machines`
    pub fn counted(self, n: usize) -> String {
        match (self, n) {
            (Kind::Other, _) => format!("{n} of something else"),
            (_, 1) => format!("1 {}", self.word()),
            (_, n) => format!("{n} {}s", self.word()),
        }
    }
}

/// What becomes of an object (rules, section 30).
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Verdict {
    AsItIs,
    /// Its name is another's here.
    Renamed,
    /// Not the same on all hosts.
    Differs,
    /// Somebody else has what only one may have; `stops`: nothing is taken over as long as it is so.
    Conflicts {
        stops: bool,
    },
    /// Not ours to manage: left alone.
    Unknown,
}

impl Verdict {
    pub fn word(self) -> &'static str {
        match self {
            Verdict::AsItIs => "taken as it is",
            Verdict::Renamed => "renamed",
            Verdict::Differs => "differs",
            Verdict::Conflicts { .. } => "conflicts",
            Verdict::Unknown => "unknown",
        }
    }
}

/// One object, and what becomes of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Line {
    pub kind: Kind,
    pub name: String,
    pub verdict: Verdict,
    /// Why, or what it is.
    pub words: String,
}

/// A host that is taken over.
#[derive(Debug, Clone, PartialEq)]
pub struct Taken {
    pub address: String,
    pub pin: String,
    pub greeting: Box<Greeting>,
    pub former: Former,
    /// How long each machine that runs there has been on, when that was read.
    pub up: BTreeMap<Uuid, Span>,
    pub read: Moment,
}

/// A network that the cluster will have, as most of the hosts have it.
#[derive(Debug, Clone, PartialEq)]
pub struct TakenNetwork {
    pub name: String,
    pub role: NetRole,
    pub net: HostNet,
}

/// A volume that the cluster will have.
#[derive(Debug, Clone, PartialEq)]
pub struct TakenVolume {
    /// What it is called here.
    pub name: String,
    pub seen: SeenVolume,
    pub owner: Option<String>,
    /// The hosts that mount it, by the names that they call themselves.
    pub on: BTreeSet<String>,
}

/// Everything that was read, object by object.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Plan {
    pub lines: Vec<Line>,
    pub hosts: Vec<Taken>,
    pub networks: Vec<TakenNetwork>,
    pub volumes: Vec<TakenVolume>,
    /// Why a host could not be read: its address, and words.
    pub unread: Vec<(String, String)>,
}

impl Plan {
    fn line(&mut self, kind: Kind, name: &str, verdict: Verdict, words: impl Into<String>) {
        self.lines.push(Line {
            kind,
            name: name.into(),
            verdict,
            words: words.into(),
        });
    }
    /// How many objects of each kind have this verdict.
    pub fn count(&self, of: impl Fn(Verdict) -> bool) -> Vec<(Kind, usize)> {
        let n = |kind| self.lines.iter().filter(|l| l.kind == kind && of(l.verdict)).count();
        Kind::ALL.into_iter().map(|k| (k, n(k))).filter(|(_, n)| *n > 0).collect()
    }
}

/// What is known of the hosts that `ask` names, and what becomes of all that they have.
pub fn plan(view: &View, now: Moment, ask: &TakeOver) -> Plan {
    let mut plan = Plan::default();
    let password = match ask.password {
        Password::Kept(secret) => Some(secret),
        Password::Missing | Password::Typed => None,
    };
    let mut read = Vec::new();
    for target in &ask.hosts {
        match host(view, now, (&target.address, &target.pin), password) {
            Ok((taken, inventory)) => {
                read.push((taken.greeting.name.clone(), inventory));
                plan.hosts.push(taken);
            }
            Err(words) => plan.unread.push((target.address.to_string(), words)),
        }
    }
    let estate = &*view.estate;
    hosts(&mut plan, estate);
    networks(&mut plan, &read, ask);
    volumes(&mut plan, estate, &read);
    let site = estate.site_named(ask.site.trim()).map(|s| s.id);
    machines(&mut plan, estate, &read, site);
    for (host, inventory) in &read {
        for other in &inventory.others {
            let words = format!("runs on {host}; it is left alone, and nobody watches it");
            plan.line(Kind::Other, other, Verdict::Unknown, words);
        }
    }
    plan
}

/// What a host said when it was asked with its password.
fn host(view: &View, now: Moment, (address, pin): (&str, &str), password: Option<SecretRef>) -> Result<(Taken, Inventory), String> {
    let greeting = match view.evidence.fresh(&Probe::Greeting(address.to_owned()), now) {
        Some(Answer::Greeting(greeting)) => greeting.clone(),
        Some(Answer::Silent { why }) => return Err(format!("{address} does not answer: {why}.")),
        _ => return Err(format!("{address} was not asked lately.")),
    };
    if greeting.pin != pin {
        return Err(format!("{} shows another certificate now than when you looked at it.", greeting.name));
    }
    let name = &greeting.name;
    let Some(password) = password else {
        return Err(format!("{name} was not read yet."));
    };
    let probe = Probe::Inventory {
        address: address.to_owned(),
        pin: pin.to_owned(),
        password,
    };
    let inventory = match view.evidence.fresh(&probe, now) {
        Some(Answer::Inventory(inventory)) => (**inventory).clone(),
        Some(Answer::Silent { why } | Answer::Refused { why }) => return Err(format!("{name} can't be read: {why}.")),
        _ => return Err(format!("{name} was not read lately.")),
    };
    let Some(former) = inventory.former.clone() else {
        return Err(format!("{name} belongs to nobody; claim it instead."));
    };
    let read = view.evidence.answers.get(&probe).map_or(now, |e| e.taken);
    let all = inventory.volumes.iter().flat_map(|v| &v.machines);
    let up = all.filter_map(|m| Some((m.uuid, m.up?))).collect();
    let taken = Taken {
        address: address.to_owned(),
        pin: pin.to_owned(),
        greeting,
        former,
        up,
        read,
    };
    Ok((taken, inventory))
}

const STOPS: Verdict = Verdict::Conflicts { stops: true };
const MINDS: Verdict = Verdict::Conflicts { stops: false };

fn hosts(plan: &mut Plan, estate: &Estate) {
    let first = plan.hosts.first().map(|h| h.former.clone());
    let mut seen = BTreeSet::new();
    for taken in plan.hosts.clone() {
        let (name, hardware) = (taken.greeting.name.clone(), &taken.greeting.hardware);
        let (verdict, words) = if estate.host_at(&taken.address).is_some() {
            (STOPS, "it is claimed already".to_owned())
        } else if estate.host_named(&name).is_some() || !seen.insert(name.clone()) {
            (STOPS, format!("there is a host {name} already; it must call itself otherwise"))
        } else if first.as_ref().is_some_and(|f| f.id != taken.former.id) {
            let other = first.as_ref().map_or("", |f| f.name.as_str());
            (STOPS, format!("it belongs to {}, the first of them to {other}", taken.former.name))
        } else {
            let words = format!("{} {}, {} cores, {}", hardware.maker, hardware.model, hardware.cpu.cores, hardware.memory);
            (Verdict::AsItIs, words)
        };
        plan.line(Kind::Host, &name, verdict, words);
    }
}

/// Each network as most hosts have it; where as many have it otherwise, as the first of them by name.
fn networks(plan: &mut Plan, read: &[(String, Inventory)], ask: &TakeOver) {
    let names: BTreeSet<&String> = read.iter().flat_map(|(_, i)| i.networks.keys()).collect();
    for name in names {
        let mut votes: Vec<(HostNet, Vec<&str>)> = Vec::new();
        let mut without = Vec::new();
        for (host, inventory) in read {
            match inventory.networks.get(name) {
                None => without.push(host.as_str()),
                Some(net) => match votes.iter_mut().find(|(n, _)| n == net) {
                    Some((_, who)) => who.push(host),
                    None => votes.push((net.clone(), vec![host])),
                },
            }
        }
        // The first of the largest: `max_by_key` would take the last.
        let most = votes.iter().map(|(_, who)| who.len()).max().unwrap_or(0);
        let Some((net, _)) = votes.iter().find(|(_, who)| who.len() == most).cloned() else { continue };
        let mut odd: Vec<String> = votes.iter().filter(|(n, _)| *n != net).map(|(n, who)| format!("{} {} {}", who.join(", "), if who.len() == 1 { "has" } else { "have" }, shape(n))).collect();
        if !without.is_empty() {
            odd.push(format!("{} {} it not", without.join(", "), if without.len() == 1 { "has" } else { "have" }));
        }
        let words = shape(&net);
        if odd.is_empty() {
            plan.line(Kind::Network, name, Verdict::AsItIs, words);
        } else {
            let words = format!("taken as {words}; {}; it is not changed, and stands under Needs you", odd.join("; "));
            plan.line(Kind::Network, name, Verdict::Differs, words);
        }
        let role = ask.roles.get(name).copied().unwrap_or_else(|| guess(name));
        plan.networks.push(TakenNetwork { name: name.clone(), role, net });
    }
}

fn shape(net: &HostNet) -> String {
    let vlan = net.vlan.map_or_else(|| "untagged".to_owned(), |v| format!("VLAN {v}"));
    let on: Vec<&str> = net.uplinks.iter().map(String::as_str).collect();
    match on.as_slice() {
        [] => format!("{vlan}, MTU {}, on no uplink", net.mtu),
        on => format!("{vlan}, MTU {}, on {}", net.mtu, on.join(" and ")),
    }
}

/// A role whose word stands in the name, else for guests.
fn guess(name: &str) -> NetRole {
    let name = name.to_lowercase();
    let mut all = NetRole::ALL.into_iter();
    all.find(|r| name.contains(r.word())).unwrap_or(NetRole::Guest)
}

fn volumes(plan: &mut Plan, estate: &Estate, read: &[(String, Inventory)]) {
    let former = plan.hosts.first().map(|h| h.former.id.clone());
    let mut all: BTreeMap<&str, (&CarriedVolume, BTreeSet<String>)> = BTreeMap::new();
    for (host, inventory) in read {
        for volume in &inventory.volumes {
            let entry = all.entry(&volume.seen.uid).or_insert_with(|| (volume, BTreeSet::new()));
            entry.1.insert(host.clone());
        }
    }
    for (uid, (CarriedVolume { seen, owner, .. }, on)) in all {
        let name = seen.name.clone();
        let foreign = owner.as_ref().filter(|(id, _)| Some(id) != former.as_ref()).map(|(_, name)| name.clone());
        let lacks: Vec<&str> = read.iter().map(|(h, _)| h.as_str()).filter(|h| !on.contains(*h)).collect();
        let free = free_name(estate, &plan.volumes, &name);
        let (verdict, words) = if let Some(ours) = estate.volume_with_uid(uid) {
            (STOPS, format!("{} is this volume, and ours already", ours.name))
        } else if let Some(other) = foreign {
            (STOPS, format!("it belongs to {other}"))
        } else if !lacks.is_empty() {
            (Verdict::Differs, format!("not mounted on {}; only those that mount it now shall", lacks.join(", ")))
        } else if free != name {
            (Verdict::Renamed, format!("there is a volume {name} already; this one becomes {free}"))
        } else {
            (Verdict::AsItIs, format!("{} with {} free", seen.capacity, seen.capacity.less(seen.used)))
        };
        plan.line(Kind::Volume, &name, verdict, words);
        plan.volumes.push(TakenVolume {
            name: free,
            seen: seen.clone(),
            owner: owner.as_ref().map(|(id, _)| id.clone()),
            on,
        });
    }
}

/// The name, or the first of `name-2`, `name-3` … that no volume has.
fn free_name(estate: &Estate, taken: &[TakenVolume], name: &str) -> String {
    let has = |n: &str| estate.volumes.values().any(|v| v.name == n) || taken.iter().any(|v| v.name == n);
    if !has(name) {
        return name.to_owned();
    }
    let numbered = (2..).map(|n| format!("{name}-{n}"));
    numbered.into_iter().find(|n| !has(n)).unwrap_or_default()
}

/// What machines of ours have that only one may have.
struct Ours<'a> {
    macs: BTreeMap<&'a str, &'a str>,
    /// By the VLAN in which each is heard.
    addresses: BTreeMap<Option<u16>, BTreeMap<IpAddr, String>>,
}

impl<'a> Ours<'a> {
    fn of(estate: &'a Estate, site: Option<SiteId>, networks: &[TakenNetwork]) -> Self {
        let all = estate.machines.values();
        let macs = all.flat_map(|m| m.nics.iter().map(|n| (n.mac.as_str(), m.name.as_str())));
        let mut addresses: BTreeMap<_, BTreeMap<_, _>> = BTreeMap::new();
        for (site, vlan) in site.into_iter().flat_map(|s| networks.iter().map(move |n| (s, n.net.vlan))) {
            let heard = estate.same_domain(site, vlan).flat_map(|n| n.taken(estate));
            addresses.entry(vlan).or_default().extend(heard.map(|(a, (what, _))| (a, what)));
        }
        Ours {
            macs: macs.collect(),
            addresses,
        }
    }

    fn clash(&self, machine: &CarriedMachine, networks: &[TakenNetwork]) -> Option<String> {
        machine.nics.iter().find_map(|nic| {
            if let Some(other) = self.macs.get(nic.mac.as_str()) {
                return Some(format!("{other} has its hardware address {} too", nic.mac));
            }
            let network = networks.iter().find(|n| Some(&n.name) == nic.network.as_ref())?;
            let heard = self.addresses.get(&network.net.vlan)?;
            nic.addresses.iter().find_map(|address| {
                let other = heard.get(address)?;
                Some(format!("{other} has its address {address} too: while both are on, each loses packets"))
            })
        })
    }
}

fn machines(plan: &mut Plan, estate: &Estate, read: &[(String, Inventory)], site: Option<SiteId>) {
    let ours = Ours::of(estate, site, &plan.networks);
    let mut all: BTreeMap<Uuid, CarriedMachine> = BTreeMap::new();
    for machine in read.iter().flat_map(|(_, i)| &i.volumes).flat_map(|v| &v.machines) {
        let known = all.entry(machine.uuid).or_insert_with(|| machine.clone());
        known.up = known.up.max(machine.up);
    }
    let here: BTreeSet<&str> = read.iter().map(|(h, _)| h.as_str()).collect();
    let mut names = BTreeSet::new();
    let mut sorted: Vec<&CarriedMachine> = all.values().collect();
    sorted.sort_by(|a, b| (&a.name, a.uuid).cmp(&(&b.name, b.uuid)));
    for machine in sorted {
        let name = &machine.name;
        let elsewhere = machine.on.as_deref().filter(|h| !here.contains(h));
        let twice = !names.insert(name.clone()) || estate.machine_named(name).is_some();
        let (verdict, words) = if estate.machine_with_uuid(&machine.uuid).is_some() {
            (STOPS, format!("a machine with its UUID {} is ours already", machine.uuid))
        } else if let Some(host) = elsewhere {
            (STOPS, format!("it runs on {host}, which is not among these hosts"))
        } else if let Some(words) = ours.clash(machine, &plan.networks) {
            (MINDS, words)
        } else if twice {
            (Verdict::Renamed, format!("there is a machine {name} already; a number is put behind its name until somebody gives it one"))
        } else {
            let words = match (&machine.on, machine.up) {
                (Some(host), Some(up)) => format!("on {host}, up {up}"),
                (Some(host), None) => format!("on {host}"),
                (None, _) => "off".into(),
            };
            (Verdict::AsItIs, words)
        };
        plan.line(Kind::Machine, name, verdict, words);
    }
}
