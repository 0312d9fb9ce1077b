//! What was tried of a network: how large a packet gets through, and who answers at its gateways.

use crate::frame::AtDesk;
use std::{collections::BTreeMap, net::IpAddr};
use zastrugi_core::{
    estate::{Network, Standing},
    evidence::{Answer, Probe},
    ids::HostId,
    moment::Moment,
    view::View,
};

/// A glyph, and words.
type Line = (&'static str, String);

pub(super) fn lines(desk: &AtDesk, view: &View, network: &Network) -> Vec<Line> {
    let now = desk.now();
    let mut all = mtu(view, network, &desk.mtu_pairs(network.id), now);
    all.extend(gateways(view, network, &desk.gateways(network.id), now));
    all
}

/// Of each gateway: how many hosts it answers, and which it does not.
fn gateways(view: &View, network: &Network, pairs: &[(HostId, IpAddr)], now: Moment) -> Vec<Line> {
    let mut asked: BTreeMap<IpAddr, (usize, Vec<&str>)> = BTreeMap::new();
    let mut silent = Vec::new();
    for (host, address) in pairs {
        let Some(name) = view.estate.hosts.get(host).map(|h| h.name.as_str()) else {
            continue;
        };
        let probe = Probe::Neighbour {
            network: network.id,
            host: *host,
            address: *address,
        };
        match view.evidence.fresh(&probe, now) {
            Some(Answer::Neighbour { mac: Some(_) }) => asked.entry(*address).or_default().0 += 1,
            Some(Answer::Neighbour { mac: None }) => {
                asked.entry(*address).or_default().1.push(name)
            }
            Some(Answer::Silent { why }) => {
                silent.push(("unchecked", format!("{name} was not heard: {why}.")));
            }
            _ => {}
        }
    }
    let said = |(address, (heard, not)): (IpAddr, (usize, Vec<&str>))| match not.as_slice() {
        [] if heard == 1 => ("steady", format!("The gateway {address} answers one host.")),
        [] => (
            "steady",
            format!("The gateway {address} answers {heard} hosts."),
        ),
        not => (
            "down",
            format!("The gateway {address} does not answer {}.", not.join(", ")),
        ),
    };
    asked.into_iter().map(said).chain(silent).collect()
}

/// What was tried, pair by pair; a failing pair names the hop where a switch can tell.
fn mtu(view: &View, network: &Network, pairs: &[(HostId, HostId)], now: Moment) -> Vec<Line> {
    let estate = &view.estate;
    let mut fine = 0;
    let mut said = Vec::new();
    for (from, to) in pairs {
        let (Some(a), Some(b)) = (estate.hosts.get(from), estate.hosts.get(to)) else {
            continue;
        };
        let probe = Probe::Mtu {
            network: network.id,
            from: *from,
            to: *to,
        };
        match view.evidence.fresh(&probe, now) {
            Some(Answer::Mtu { through: true, .. }) => fine += 1,
            Some(Answer::Mtu { bytes, .. }) => {
                let hop = [a, b]
                    .into_iter()
                    .find_map(|h| match network.standing(estate, h) {
                        Standing::Wire(fault) => Some(fault.to_string()),
                        Standing::Missing => Some(format!("{} doesn't have the network", h.name)),
                        Standing::Differs(why) => Some(format!("{}: {why}", h.name)),
                        _ => None,
                    });
                let hop = hop.unwrap_or_else(|| "no switch tells where".into());
                said.push((
                    "down",
                    format!(
                        "{} → {}: {bytes} bytes don't get through; {hop}.",
                        a.name, b.name
                    ),
                ));
            }
            Some(Answer::Silent { why }) => {
                said.push(("unchecked", format!("{} → {}: {why}.", a.name, b.name)))
            }
            _ => {}
        }
    }
    if fine > 0 {
        said.insert(
            0,
            (
                "steady",
                format!(
                    "{fine} of {} pairs carry {} bytes unfragmented.",
                    pairs.len(),
                    network.mtu
                ),
            ),
        );
    }
    said
}
