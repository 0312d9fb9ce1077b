//! A network that is being made, corrected when a host does not get it: those that have it get it anew.

use super::{
    CreateNetwork, Draft, Event,
    assess::{CREATE, check_domain, check_hosts, check_wire},
};
use crate::{
    addressing::check,
    estate::{Estate, Host, NetRole},
    finding::{Finding, Rule},
    ids::NetworkId,
    moment::Moment,
    road::{Given, Typed},
    view::View,
};
use std::{collections::BTreeSet, sync::Arc};

pub(super) fn given(estate: &Estate, network: NetworkId) -> Vec<Given> {
    let Some(network) = estate.networks.get(&network).filter(|n| !n.ready) else {
        return vec![];
    };
    let vlan = network.vlan.map_or_else(String::new, |v| v.to_string());
    let uplinks: Vec<&str> = network.uplinks.iter().map(String::as_str).collect();
    let mut all = vec![
        Given::shared("vlan", "VLAN", vlan),
        Given::shared("mtu", "MTU", network.mtu),
        Given::shared("uplinks", "Uplinks", uplinks.join(" ")),
    ];
    // With several of them nobody could tell which is meant.
    if let [subnet] = network.subnets.as_slice() {
        let gateway = subnet.gateway.map_or_else(String::new, |g| g.to_string());
        all.push(Given::shared("gateway", "Gateway", gateway));
    }
    all
}

/// The gateway as typed, checked in its subnet.
fn gateway(draft: &mut Draft<'_>, then: &mut CreateNetwork, typed: &str) {
    let [subnet] = then.subnets.as_mut_slice() else { return };
    let stop = |text: String| Finding::stop(Rule::Subnet, "gateway", text).at("gateway");
    subnet.gateway = match typed {
        "" => None,
        typed => match typed.parse() {
            Ok(gateway) => Some(gateway),
            Err(_) => return draft.found(stop(format!("“{typed}” is no address."))),
        },
    };
    draft.found_all(check(subnet).into_iter().map(|(_, words)| stop(words)));
}

/// # Errors
/// What is wrong with what was typed: the same as before it was made.
pub(super) fn correct(
    view: &View,
    now: Moment,
    id: NetworkId,
    typed: &Typed,
) -> Result<Event, Vec<Finding>> {
    let gone = || {
        let text = "This network is ready already, or was given up.";
        vec![Finding::stop(Rule::Exists, id.to_string(), text)]
    };
    let network = view.estate.networks.get(&id).filter(|n| !n.ready);
    let network = network.ok_or_else(gone)?;
    let cluster = view.estate.clusters.get(&network.cluster);
    let cluster = cluster.ok_or_else(gone)?;
    // It is not in its own way.
    let mut others = (*view.estate).clone();
    others.networks.remove(&id);
    let view = view.with(others);
    let mut draft = Draft::alone(&view, now);
    let mut then = CreateNetwork {
        name: (&network.name).into(),
        cluster: Some(cluster.id),
        role: network.role,
        vlan: network.vlan,
        mtu: network.mtu,
        subnets: network.subnets.clone(),
        uplinks: network.uplinks.clone(),
    };
    let stop = |rule, field: &str, text: String| Finding::stop(rule, field, text).at(field);
    if let Some(vlan) = typed.get("vlan").map(|t| t.trim()) {
        then.vlan = match vlan {
            "" => None,
            vlan => vlan.parse().map(Some).unwrap_or_else(|_| {
                let text = format!("“{vlan}” is no VLAN; they go from 1 to 4094.");
                draft.found(stop(Rule::Vlan, "vlan", text));
                network.vlan
            }),
        };
    }
    if let Some(mtu) = typed.get("mtu").map(|t| t.trim()) {
        then.mtu = mtu.parse().unwrap_or_else(|_| {
            draft.found(stop(Rule::Mtu, "mtu", format!("“{mtu}” is no number.")));
            network.mtu
        });
    }
    if let Some(uplinks) = typed.get("uplinks") {
        let words = uplinks.split(|c: char| c == ',' || c.is_whitespace());
        then.uplinks = words.filter(|w| !w.is_empty()).map(str::to_owned).collect::<BTreeSet<_>>();
    }
    if let Some(typed) = typed.get("gateway") {
        gateway(&mut draft, &mut then, typed.trim());
    }
    if network.role == NetRole::Management && then.vlan != network.vlan {
        let text = "The hosts were installed with this VLAN; with another they would not answer any more.";
        draft.found(stop(Rule::Vlan, "vlan", text.to_owned()));
    }
    let hosts: Vec<Arc<Host>> = draft.estate().hosts_in(cluster.id).cloned().collect();
    check_wire(&mut draft, &then, cluster);
    check_domain(&mut draft, &then, cluster);
    check_hosts(&mut draft, &then, &hosts, &CREATE);
    // Whether a host answers the step itself finds out.
    let wrong = |f: &&Finding| f.stops() && f.rule != Rule::HostOpen;
    let wrong: Vec<Finding> = draft.findings().iter().filter(wrong).cloned().collect();
    if !wrong.is_empty() {
        return Err(wrong);
    }
    Ok(Event::Corrected {
        network: id,
        vlan: then.vlan,
        mtu: then.mtu,
        uplinks: then.uplinks,
        subnets: then.subnets,
    })
}
