//! What a host was given to become, corrected when its installation stands still: it is mounted and started once more.

use super::{
    BareHost, Draft, Event, Install,
    assess::{self, Taken},
};
use crate::{
    endpoint::{Endpoint, Password},
    estate::{Estate, Host, Installing, NetRole, Network},
    finding::{Finding, Rule},
    ids::{HostId, NetworkId, SecretRef},
    moment::Moment,
    road::{Given, Typed},
    view::View,
};
use std::sync::Arc;

pub(super) fn given(estate: &Estate, host: HostId) -> Vec<Given> {
    let Some(host) = estate.hosts.get(&host) else { return vec![] };
    let Some(installing) = &host.installing else { return vec![] };
    vec![
        Given::own("name", "Name", &host.name),
        Given::own("address", "Own address", installing.net.addr()),
        Given::shared("gateway", "Gateway", word(installing.gateway)),
        Given::shared("vlan", "VLAN", word(installing.vlan)),
        Given::shared("image", "Installed from", &installing.image),
    ]
}

fn word(value: Option<impl ToString>) -> String {
    value.map_or_else(String::new, |v| v.to_string())
}

/// # Errors
/// What is wrong with what was typed: the same as before the run began.
pub(super) fn correct(view: &View, now: Moment, host: HostId, typed: &Typed) -> Result<Event, Vec<Finding>> {
    let gone = || vec![Finding::stop(Rule::Exists, host.to_string(), "This host is installed already, or was given up.")];
    let host = view.estate.hosts.get(&host).ok_or_else(gone)?;
    let was = host.installing.as_deref().ok_or_else(gone)?;
    let all = given(&view.estate, host.id);
    let value = |field: &str| {
        let before = all.iter().find(|g| g.field == field).map_or("", |g| g.now.as_str());
        typed.get(field).map_or(before, |t| t.trim()).to_owned()
    };
    // It is not in its own way.
    let mut others = (*view.estate).clone();
    others.hosts.remove(&host.id);
    let view = view.with(others);
    let mut draft = Draft::alone(&view, now);
    let vlan = vlan(&mut draft, &value("vlan"));
    let (ask, row) = sheet(host, was, &value, vlan);
    let subnet = assess::subnet(&mut draft, &ask);
    let mut taken = Taken::default();
    let name = assess::named(&mut draft, &row, &mut taken);
    let net = subnet.and_then(|subnet| assess::addressed(&mut draft, &row, subnet, &ask, &mut taken));
    if value("image") != was.image {
        let medium = assess::medium(&mut draft, &ask);
        let other = medium.filter(|m| m.maker.as_ref().is_some_and(|maker| *maker != host.hardware.maker));
        if let Some(other) = other {
            let text = format!("{} is made for other hardware than that of {}.", other.file, host.hardware.maker);
            draft.found(Finding::stop(Rule::Software, &host.name, text).at("image"));
        }
    }
    let moved = vlan != was.vlan || ask.gateway.trim() != word(was.gateway);
    let network = network_of(&view.estate, host, was).filter(|_| moved);
    if let Some(network) = &network {
        free(&mut draft, network);
    }
    let mut wrong: Vec<Finding> = draft.findings().iter().filter(|f| f.stops()).cloned().collect();
    for finding in &mut wrong {
        let plain = finding.field.as_deref().and_then(|f| f.split(':').next());
        finding.field = plain.map(str::to_owned);
    }
    match (name, net) {
        (Some(name), Some(net)) if wrong.is_empty() => {
            let installing = Installing {
                net,
                vlan,
                gateway: ask.gateway.trim().parse().ok(),
                image: ask.image.to_string(),
                word: String::new(),
                ..was.clone()
            };
            Ok(Event::Corrected {
                host: host.id,
                said: changes(host, was, &name, &installing),
                name,
                installing: Box::new(installing),
                network: network.map(|n| n.id),
            })
        }
        _ => Err(wrong),
    }
}

fn vlan(draft: &mut Draft<'_>, typed: &str) -> Option<u16> {
    if typed.is_empty() {
        return None;
    }
    let read = typed.parse::<u16>().ok();
    if read.is_none() {
        let text = format!("“{typed}” is no VLAN; they go from 1 to 4094.");
        draft.found(Finding::stop(Rule::Vlan, "vlan", text).at("vlan"));
    }
    read
}

/// The same as the sheet would ask for it now.
fn sheet(host: &Host, was: &Installing, value: &impl Fn(&str) -> String, vlan: Option<u16>) -> (Install, BareHost) {
    let bmc = host.bmc.as_ref();
    let ask = Install {
        hosts: vec![],
        site: "".into(),
        image: value("image").into(),
        user: "".into(),
        password: Password::Kept(SecretRef(uuid::Uuid::nil())),
        subnet: was.net.trunc().to_string().into(),
        gateway: value("gateway").into(),
        vlan,
        time: vec![],
    };
    let row = BareHost {
        controller: Endpoint {
            address: bmc.map_or("", |b| b.address.as_str()).into(),
            pin: "".into(),
        },
        name: value("name").into(),
        address: value("address").into(),
        overwrite: was.overwrite,
        site: "".into(),
    };
    (ask, row)
}

/// The network that is made for the hosts' own addresses in the same run: it goes where they go.
fn network_of(estate: &Estate, host: &Host, was: &Installing) -> Option<Arc<Network>> {
    let mut all = estate.networks.values();
    let found = all.find(|n| {
        let here = estate.clusters.get(&n.cluster).is_some_and(|c| c.site == host.site);
        here && !n.ready && n.role == NetRole::Management && n.vlan == was.vlan && n.subnets.iter().any(|s| s.net.contains(&was.net.addr()))
    });
    found.cloned()
}

fn free(draft: &mut Draft<'_>, network: &Network) {
    let mut having = draft.estate().hosts.values().filter(|h| h.networks.contains_key(&network.name));
    if let Some(host) = having.find(|h| h.cluster == Some(network.cluster)) {
        let text = format!("{} has {} as it was planned already; all hosts have it alike.", host.name, network.name);
        draft.found(Finding::stop(Rule::Vlan, &network.name, text).at("vlan"));
    }
}

/// What follows for the network of the hosts' own addresses.
pub(super) fn follow(estate: &mut crate::estate::Pen<'_>, network: NetworkId, installing: &Installing) {
    estate.network(network, |n| {
        n.vlan = installing.vlan;
        for subnet in n.subnets.iter_mut().filter(|s| s.net.contains(&installing.net.addr())) {
            subnet.gateway = installing.gateway;
        }
    });
}

/// What was corrected, as it was and as it is.
fn changes(before: &Host, was: &Installing, name: &str, is: &Installing) -> String {
    let word = |value: Option<String>| value.unwrap_or_else(|| "none".into());
    let all = [
        ("name", before.name.clone(), name.to_owned()),
        ("address", was.net.addr().to_string(), is.net.addr().to_string()),
        ("gateway", word(was.gateway.map(|g| g.to_string())), word(is.gateway.map(|g| g.to_string()))),
        ("VLAN", word(was.vlan.map(|v| v.to_string())), word(is.vlan.map(|v| v.to_string()))),
        ("image", was.image.clone(), is.image.clone()),
    ];
    let changed = all.iter().filter(|(_, a, b)| a != b);
    let words: Vec<String> = changed.map(|(what, a, b)| format!("{what} {b} instead of {a}")).collect();
    words.join(", ")
}
