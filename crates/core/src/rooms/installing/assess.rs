//! The checks before a host is installed: what can be known before there is anything on it (rules, section 9).

use super::{AGENT, BareHost, Draft, Event, Install, Step, step::LIMIT, time};
use crate::{
    addressing::unusable,
    endpoint::{Endpoint, Password, short},
    estate::{Access, Bmc, Condition, Cpu, DiskState, Hardware, Host, Installing, LocalDisk, PsabiLevel, Uplink},
    evidence::{Answer, Beneath, Medium, Probe},
    finding::{Finding, Rule},
    ids::{HostId, SecretRef, SiteId},
    limits, names,
    moment::Span,
    units::{Bytes, Mhz},
};
use ipnet::IpNet;
use std::{
    collections::{BTreeMap, BTreeSet},
    net::{IpAddr, SocketAddr},
};

/// How long it is rested on that nobody answered at an address.
const LATELY: Span = Span::mins(15);
/// Media that are mounted at once: what it is installed from, and what it shall become.
const SLOTS: usize = 2;
/// What the disk holds at least that a host is installed on: the smallest that does, the first of equals.
const LEAST_START: Bytes = Bytes::gib(32);

/// A host that will be there.
pub struct New {
    pub host: Host,
    /// The step after which it is ours.
    pub last: usize,
}

/// Checks all of them, and plans their installation.
pub fn install(draft: &mut Draft<'_>, ask: &Install) -> Vec<New> {
    draft.title = match ask.hosts.as_slice() {
        [one] => format!("Install {}", one.name),
        many => format!("Install {} hosts", many.len()),
    };
    if ask.hosts.is_empty() {
        let text = "Look for the hosts by their controllers, and choose those that shall be installed.";
        draft.found(Finding::stop(Rule::Nothing, "hosts", text).at("hosts"));
    }
    if let Err(words) = limits::DEVICES.check(ask.hosts.len()) {
        draft.found(Finding::stop(Rule::Count, "hosts", words).at("hosts"));
    }
    let sites = sites(draft, ask);
    let medium = medium(draft, ask);
    let subnet = subnet(draft, ask);
    let secret = password(draft, ask);
    let time = time::sources(draft, &ask.time);
    let mut taken = Taken::default();
    let mut new = Vec::new();
    for row in &ask.hosts {
        let Some(beneath) = secret.and_then(|secret| beneath(draft, ask, row, secret)) else {
            continue;
        };
        fit(draft, row, &beneath);
        fits_medium(draft, row, &beneath, medium.as_ref());
        let name = named(draft, row, &mut taken);
        let net = subnet.and_then(|subnet| addressed(draft, row, subnet, ask, &mut taken));
        known(draft, row, &beneath, &mut taken);
        let site = sites.get(site_of(ask, row)).copied().flatten();
        if let (Some(site), Some(net), Some(name), Some(medium), Some(secret)) = (site, net, name, &medium, secret) {
            let given = Given { ask, row, site, net, name, medium, secret, time: &time };
            new.push(plan(draft, &given, beneath));
        }
    }
    taken.say_unasked(draft);
    alike(draft, &new);
    new
}

fn site_of<'a>(ask: &'a Install, row: &'a BareHost) -> &'a str {
    match row.site.trim() {
        "" => ask.site.trim(),
        own => own,
    }
}

/// Every site that is named, once: a new one is added for all of its hosts.
fn sites(draft: &mut Draft<'_>, ask: &Install) -> BTreeMap<String, Option<SiteId>> {
    let named: BTreeSet<&str> = ask.hosts.iter().map(|row| site_of(ask, row)).chain([ask.site.trim()]).collect();
    named.into_iter().map(|name| (name.to_owned(), draft.site(name))).collect()
}

/// What rows of one sheet may not have twice.
#[derive(Default)]
pub(super) struct Taken {
    names: BTreeSet<String>,
    addresses: BTreeSet<IpAddr>,
    serials: BTreeSet<String>,
    /// Addresses of which nobody asked lately whether somebody has them.
    unasked: Vec<IpAddr>,
}

/// Addresses that are named before the rest is only counted.
const NAMED: usize = 3;

impl Taken {
    /// Said once for all of them.
    pub(super) fn say_unasked(&self, draft: &mut Draft<'_>) {
        let named: Vec<String> = self.unasked.iter().take(NAMED).map(ToString::to_string).collect();
        let more = match self.unasked.len().saturating_sub(NAMED) {
            0 => String::new(),
            n => format!(" and {n} more"),
        };
        if !named.is_empty() {
            let text = format!("Nobody asked yet whether somebody has {}{more}.", named.join(", "));
            draft.found(Finding::unchecked(Rule::Address, "addresses", text).remedy("Look at the hosts again: their addresses are asked too."));
        }
    }
}

pub(super) fn medium(draft: &mut Draft<'_>, ask: &Install) -> Option<Medium> {
    let media = match draft.view.evidence.fresh(&Probe::Installations, draft.now) {
        Some(Answer::Installations { media }) => media.clone(),
        Some(Answer::Silent { why }) => {
            let text = format!("This manager has nothing to install hosts from: {why}.");
            draft.found(Finding::stop(Rule::Software, "image", text).at("image"));
            return None;
        }
        _ => {
            let text = "What hosts can be installed from was not looked at yet.";
            draft.found(Finding::stop(Rule::Software, "image", text).at("image"));
            return None;
        }
    };
    let found = media.into_iter().find(|m| m.file == *ask.image);
    if found.is_none() {
        let text = "Choose what they are installed from.";
        draft.found(Finding::stop(Rule::Software, "image", text).at("image"));
    }
    found
}

pub(super) fn subnet(draft: &mut Draft<'_>, ask: &Install) -> Option<IpNet> {
    let stop = |text: String, field: &str| Finding::stop(Rule::Subnet, "subnet", text).at(field);
    let Ok(subnet) = ask.subnet.trim().parse::<IpNet>() else {
        let text = match ask.subnet.trim() {
            "" => "Type the subnet of the hosts' own addresses, such as 10.1.2.0/24.".to_owned(),
            typed => format!("“{typed}” is no subnet; type one such as 10.1.2.0/24."),
        };
        draft.found(stop(text, "subnet"));
        return None;
    };
    match ask.gateway.trim() {
        "" => {}
        typed => match typed.parse::<IpAddr>() {
            Ok(gateway) if subnet.contains(&gateway) => {}
            Ok(gateway) => draft.found(stop(format!("{gateway} is not in {}.", subnet.trunc()), "gateway")),
            Err(_) => draft.found(stop(format!("“{typed}” is no address."), "gateway")),
        },
    }
    if let Some(vlan) = ask.vlan
        && !(1..=4094).contains(&vlan)
    {
        let text = format!("{vlan} is no VLAN; they go from 1 to 4094.");
        draft.found(Finding::stop(Rule::Vlan, "vlan", text).at("vlan"));
    }
    Some(subnet.trunc())
}

fn password(draft: &mut Draft<'_>, ask: &Install) -> Option<SecretRef> {
    if ask.user.trim().is_empty() {
        let text = "Type the account of the controllers, as their maker set it up.";
        draft.found(Finding::stop(Rule::Password, "user", text).at("user"));
    }
    match ask.password {
        Password::Kept(secret) => Some(secret),
        Password::Typed | Password::Missing => {
            let text = "Type the password of the controllers and look at the hosts with it.";
            draft.found(Finding::stop(Rule::Password, "password", text).at("password"));
            None
        }
    }
}

/// What a row's controller said of its host; else a *stop*.
fn beneath(draft: &mut Draft<'_>, ask: &Install, row: &BareHost, password: SecretRef) -> Option<Beneath> {
    let Endpoint { address, pin } = &row.controller;
    let probe = Probe::Beneath {
        address: address.to_string(),
        pin: pin.to_string(),
        user: ask.user.trim().to_owned(),
        password,
    };
    let field = row.field("host");
    let finding = match draft.view.evidence.fresh(&probe, draft.now) {
        Some(Answer::Beneath(beneath)) => {
            let Beneath { maker, model, serial, cores, memory, .. } = &**beneath;
            let text = format!("{address}: {maker} {model}, {cores} cores, {memory}, serial {serial}.");
            let clear = Finding::clear(Rule::Bmc, address, text);
            draft.found(clear.because(format!("fingerprint {}", short(pin))));
            return Some((**beneath).clone());
        }
        Some(Answer::Refused { why }) => {
            let text = format!("The controller at {address} does not take the account and password: {why}.");
            Finding::stop(Rule::Password, address, text).remedy("Type the right ones and look again; these are not sent again.").at("password")
        }
        Some(Answer::Silent { why }) => {
            let text = format!("The controller at {address} gives no answer: {why}.");
            Finding::stop(Rule::Reachable, address, text).remedy("Check its cable and its address, then look again.").at(&field)
        }
        _ => {
            let text = format!("The controller at {address} was not asked yet.");
            Finding::stop(Rule::Reachable, address, text).remedy("Look at the hosts.").at(&field)
        }
    };
    draft.found(finding);
    None
}

/// Whether it can be installed at all.
fn fit(draft: &mut Draft<'_>, row: &BareHost, beneath: &Beneath) {
    let (name, field) = (row.called(), row.field("host"));
    let stop = |rule, text: String| Finding::stop(rule, name, text).at(&field);
    let (memory, cores) = (Hardware::LEAST_MEMORY, Hardware::LEAST_CORES);
    if beneath.memory < memory || beneath.cores < cores {
        let text = format!("{name} is too small: {} cores, {}.", beneath.cores, beneath.memory);
        draft.found(stop(Rule::Minimum, text).because(format!("{cores} cores and {memory} are needed")));
    }
    if beneath.slots < SLOTS {
        let text = format!("The controller of {name} mounts {} media over the network; {SLOTS} are needed.", beneath.slots);
        draft.found(stop(Rule::Bmc, text).remedy("Update the controller, or install the host by hand and claim it."));
    }
    if beneath.ports.iter().all(|p| !p.up) {
        let text = format!("No network port of {name} has a link.");
        draft.found(stop(Rule::Uplink, text).remedy("Look at its cables and at the switch."));
    }
    let down: Vec<&str> = beneath.ports.iter().filter(|p| !p.up).map(|p| p.name.as_str()).collect();
    if !down.is_empty() && down.len() < beneath.ports.len() {
        let text = format!("Ports of {name} have no link: {}.", down.join(", "));
        draft.found(Finding::mind(Rule::Uplink, name, text).at(&field));
    }
    if beneath.on {
        let text = format!("{name} is on; whatever runs on it ends when the installation starts.");
        draft.found(Finding::mind(Rule::State, name, text).at(&field));
    }
    let disks = beneath.disks.join(", ");
    if disks.is_empty() {
        draft.found(Finding::clear(Rule::Content, name, format!("The disks of {name} hold nothing.")));
    } else if row.overwrite {
        let text = format!("What the disks of {name} hold is erased: {disks}.");
        draft.found(Finding::mind(Rule::Content, name, text).at(&field));
    } else {
        let text = format!("The disks of {name} are not empty: {disks}.");
        let remedy = "If nobody needs it, say in its row that it may be erased; or leave the host out.";
        draft.found(stop(Rule::Content, text).remedy(remedy));
    }
}

fn fits_medium(draft: &mut Draft<'_>, row: &BareHost, beneath: &Beneath, medium: Option<&Medium>) {
    let Some(medium) = medium else { return };
    let name = row.called();
    match &medium.maker {
        Some(maker) if *maker != beneath.maker => {
            let text = format!("{} is made for hardware of {maker}; {name} is of {}.", medium.file, beneath.maker);
            let stop = Finding::stop(Rule::Software, name, text).at("image");
            draft.found(stop.remedy("Choose another, or leave this host out."));
        }
        Some(_) => draft.found(Finding::clear(Rule::Software, name, format!("{} is made for {name}.", medium.file))),
        None => {
            let Some(Answer::Installations { media }) = draft.view.evidence.fresh(&Probe::Installations, draft.now) else {
                return;
            };
            let own = media.iter().find(|m| m.maker.as_ref() == Some(&beneath.maker));
            if let Some(own) = own.map(|m| m.file.clone()) {
                let text = format!("{} is for any hardware; {own} is made for that of {name} and has its drivers.", medium.file);
                draft.found(Finding::mind(Rule::Software, name, text).at("image").remedy(format!("Choose {own}.")));
            }
        }
    }
}

pub(super) fn named(draft: &mut Draft<'_>, row: &BareHost, taken: &mut Taken) -> Option<String> {
    let name = row.name.trim();
    let problem = match names::check(name) {
        Err(words) => Some(words),
        Ok(()) if draft.estate().host_named(name).is_some() => Some(format!("There is a host {name} already.")),
        Ok(()) if !taken.names.insert(name.to_owned()) => Some(format!("Two hosts shall be named {name}.")),
        Ok(()) => None,
    };
    let fine = problem.is_none().then(|| name.to_owned());
    let field = row.field("name");
    draft.found_all(problem.map(|text| Finding::stop(Rule::Name, &row.controller.address, text).at(&field)));
    fine
}

/// Its own address, with the prefix length of the subnet.
pub(super) fn addressed(draft: &mut Draft<'_>, row: &BareHost, subnet: IpNet, ask: &Install, taken: &mut Taken) -> Option<IpNet> {
    let (name, typed) = (row.called(), row.address.trim());
    let problem = match typed.parse::<IpAddr>() {
        Err(_) if typed.is_empty() => "Its own address is missing.".to_owned(),
        Err(_) => format!("“{typed}” is no address."),
        Ok(ip) => match free(draft, ip, subnet, ask, taken) {
            Ok(net) => return Some(net),
            Err(words) => words,
        },
    };
    let field = row.field("address");
    draft.found(Finding::stop(Rule::Address, name, problem).at(&field));
    None
}

fn free(draft: &mut Draft<'_>, ip: IpAddr, subnet: IpNet, ask: &Install, taken: &mut Taken) -> Result<IpNet, String> {
    if !subnet.contains(&ip) {
        return Err(format!("{ip} is not in {subnet}."));
    }
    if unusable(&subnet).contains(&ip) {
        return Err(format!("{ip} is the network or broadcast address of {subnet}."));
    }
    if ask.gateway.trim().parse() == Ok(ip) {
        return Err(format!("{ip} is the gateway."));
    }
    let at = SocketAddr::new(ip, AGENT).to_string();
    if let Some(other) = draft.estate().host_at(&at) {
        return Err(format!("{ip} is the address of {}.", other.name));
    }
    if !taken.addresses.insert(ip) {
        return Err(format!("{ip} is given twice."));
    }
    // A silence is asked again soon elsewhere; here it tells that nobody had the address a moment ago.
    let asked = draft.view.evidence.answers.get(&Probe::Greeting(at));
    let lately = asked.filter(|e| draft.now.since(e.taken) < LATELY);
    match lately.map(|e| &e.answer) {
        Some(Answer::Greeting(greeting)) => return Err(format!("{} answers at {ip} already.", greeting.name)),
        Some(_) => {
            let text = format!("Nobody answers at {ip}.");
            draft.found(Finding::clear(Rule::Address, ip.to_string(), text));
        }
        None => taken.unasked.push(ip),
    }
    IpNet::new(ip, subnet.prefix_len()).map_err(|_| format!("{ip} does not fit {subnet}."))
}

/// Whether it is one of ours already.
fn known(draft: &mut Draft<'_>, row: &BareHost, beneath: &Beneath, taken: &mut Taken) {
    let serial = &beneath.serial;
    let ours = draft.estate().hosts.values().find(|h| h.hardware.serial == *serial);
    let text = match ours {
        Some(ours) => format!("The controller at {} is that of {}, which is claimed.", row.controller.address, ours.name),
        None if !taken.serials.insert(serial.clone()) => format!("Two controllers show the serial {serial}."),
        None => return,
    };
    let field = row.field("host");
    draft.found(Finding::stop(Rule::Owner, row.called(), text).at(&field).remedy("Leave it out."));
}

/// Hosts that are not of one kind are worth a thought.
fn alike(draft: &mut Draft<'_>, new: &[New]) {
    let models: BTreeSet<String> = new.iter().map(|n| format!("{} {}", n.host.hardware.maker, n.host.hardware.model)).collect();
    if models.len() > 1 {
        let text = "The hosts are of different models.";
        let models: Vec<String> = models.into_iter().collect();
        draft.found(Finding::mind(Rule::Hardware, "hosts", text).because(models.join(", ")).at("hosts"));
    }
}

struct Given<'a> {
    ask: &'a Install,
    row: &'a BareHost,
    site: SiteId,
    net: IpNet,
    name: String,
    medium: &'a Medium,
    secret: SecretRef,
    time: &'a [String],
}

fn plan(draft: &mut Draft<'_>, given: &Given<'_>, beneath: Beneath) -> New {
    let host = will_be(HostId(draft.number()), draft, given, beneath);
    draft.intend(Event::Planned(Box::new(host.clone())));
    let (id, name) = (host.id, &host.name);
    let field = given.row.field("host");
    let title = format!("Mount {} for {name}", given.medium.file);
    let inserted = draft.step(Step::Insert { host: id }, title, &[], Some("image"));
    let step = Step::Install { host: id, limit: LIMIT };
    let installed = draft.step(step, format!("{name} installs itself"), &[inserted], Some(&field));
    let last = draft.step(Step::TakeOver { host: id }, format!("Take {name} over"), &[installed], Some(&field));
    New { host, last }
}

/// The host as far as its controller knows it; what it does not know is taken from another of its model, until it says so itself.
fn will_be(id: HostId, draft: &Draft<'_>, given: &Given<'_>, beneath: Beneath) -> Host {
    let mut all = draft.estate().hosts.values();
    let like = all.find(|h| h.hardware.model == beneath.model && h.hardware.maker == beneath.maker);
    let cpu = like.map(|h| &h.hardware.cpu);
    Host {
        id,
        name: given.name.clone(),
        site: given.site,
        cluster: None,
        access: Access {
            address: SocketAddr::new(given.net.addr(), AGENT).to_string(),
            pin: String::new(),
            key: None,
        },
        bmc: Some(Bmc {
            address: given.row.controller.address.to_string(),
            pin: given.row.controller.pin.to_string(),
            user: given.ask.user.trim().to_owned(),
            key: Some(given.secret),
        }),
        hardware: Hardware {
            maker: beneath.maker,
            model: beneath.model,
            serial: beneath.serial,
            cpu: Cpu {
                maker: cpu.map_or_else(String::new, |c| c.maker.clone()),
                model: beneath.cpu,
                sockets: beneath.sockets,
                cores: beneath.cores,
                threads: beneath.threads,
                base: cpu.map_or(Mhz(0), |c| c.base),
                level: cpu.map_or(PsabiLevel::V1, |c| c.level),
            },
            memory: beneath.memory,
            numa_nodes: beneath.sockets,
            virtualization: true,
            virtual_hardware: like.map_or(1, |h| h.hardware.virtual_hardware),
        },
        software: given.medium.version.clone(),
        disks: lendable(beneath.drives),
        condition: Condition::Claiming,
        seen: (0, 0),
        initiator: String::new(),
        mounts: Default::default(),
        uplinks: beneath.ports.into_iter().map(port).collect(),
        networks: Default::default(),
        labels: Default::default(),
        note: String::new(),
        watchdog: false,
        fencing: None,
        entered: None,
        maintenance: None,
        installing: Some(Box::new(Installing {
            image: given.medium.file.clone(),
            net: given.net,
            gateway: given.ask.gateway.trim().parse().ok(),
            vlan: given.ask.vlan,
            time: given.time.to_vec(),
            overwrite: given.row.overwrite,
            word: String::new(),
            given: None,
            was_on: beneath.on,
            given_up: false,
        })),
        keepers: Default::default(),
    }
}

/// Those that it does not start from; what is on them is erased, or nothing is.
fn lendable(mut drives: Vec<LocalDisk>) -> Vec<LocalDisk> {
    let fit = drives.iter().enumerate().filter(|(_, d)| d.state != DiskState::Dead && d.size >= LEAST_START);
    if let Some((start, _)) = fit.min_by_key(|(n, d)| (d.size, *n)) {
        drives.remove(start);
    }
    drives
}

fn port(port: crate::evidence::Port) -> Uplink {
    Uplink {
        name: port.name,
        mac: port.mac,
        mbit: port.mbit,
        up: port.up,
        switch: String::new(),
        port: String::new(),
    }
}

/// Hosts that nobody wants to install any more.
pub(super) fn withdraw(draft: &mut Draft<'_>, hosts: &[HostId]) {
    "Give up installations".clone_into(&mut draft.title);
    for id in draft.chosen(hosts) {
        let Some(host) = draft.host(id).cloned() else { continue };
        if host.installing.as_ref().is_none_or(|i| !i.given_up) {
            let text = format!("{} is not being given up.", host.name);
            draft.found(Finding::stop(Rule::State, &host.name, text).remedy("Cancel the run that installs it first."));
            continue;
        }
        draft.title = format!("Give up the installation of {}", host.name);
        let title = format!("Take out what was mounted for {}", host.name);
        draft.step(Step::Withdraw { host: id }, title, &[], None);
    }
}
