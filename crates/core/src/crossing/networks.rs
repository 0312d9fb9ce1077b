//! What cards would be on at the other site, and in a drill.

use super::{ADDRESSES, Bound, listed};
use crate::{
    estate::{Estate, Network, RecoveryPlan, Road},
    finding::{Finding, Rule},
    ids::NetworkId,
};
use std::{collections::BTreeSet, sync::Arc};

/// Machines with cards of which nobody said what they are on there; then nobody could reach them.
pub(super) fn mute(estate: &Estate, road: Road<'_>, stages: &[Vec<Bound>]) -> Vec<Finding> {
    let site = road.to.site_name(estate);
    let mut lost: BTreeSet<NetworkId> = BTreeSet::new();
    let mut names: Vec<&str> = Vec::new();
    for b in stages.iter().flatten() {
        let lacks = road.lacks(&b.machine);
        if !lacks.is_empty() {
            names.push(&b.machine.name);
            lost.extend(lacks);
        }
    }
    let mut found = Vec::new();
    if !names.is_empty() {
        let networks: Vec<&str> = lost
            .iter()
            .filter_map(|id| estate.networks.get(id))
            .map(|n| n.name.as_str())
            .collect();
        let text = format!(
            "Nobody said what {} is at {site}: {} would be heard by nobody there.",
            listed(&networks),
            listed(&names)
        );
        found.push(
            Finding::stop(Rule::Vlan, "networks", text)
                .remedy(format!("Say it in pair {}.", road.pair.name)),
        );
    }
    found.extend(strangers(estate, stages));
    found
}

/// Machines whose addresses stay, and belong to nothing where they come.
fn strangers(estate: &Estate, stages: &[Vec<Bound>]) -> Option<Finding> {
    let mut names: Vec<&str> = Vec::new();
    let mut because = None;
    for b in stages.iter().flatten() {
        let Some(replica) = &b.replica else { continue };
        let cards = b.machine.nics.iter().zip(&replica.nics);
        for (had, card) in cards {
            let Some(network) = card.network.and_then(|id| estate.networks.get(&id)) else {
                continue;
            };
            let inside = |a: &std::net::IpAddr| network.subnets.iter().any(|s| s.net.contains(a));
            if network.subnets.is_empty() {
                continue;
            }
            if let Some(address) = had.addresses.iter().find(|a| !inside(a)) {
                because.get_or_insert_with(|| {
                    format!(
                        "{} has {address}; {} has {}",
                        b.machine.name,
                        network.name,
                        subnets(network)
                    )
                });
                names.push(&b.machine.name);
                break;
            }
        }
    }
    names.first()?;
    let text = format!(
        "{} {} addresses there that belong to none of the subnets: nobody finds them.",
        listed(&names),
        if names.len() == 1 { "keeps" } else { "keep" }
    );
    Some(Finding::mind(Rule::Address, ADDRESSES, text).because(because.unwrap_or_default()).remedy("Stretch the subnet to both sites, or give their guests other addresses once they are up."))
}

fn subnets(network: &Network) -> String {
    let all: Vec<String> = network.subnets.iter().map(|s| s.net.to_string()).collect();
    all.join(", ")
}

/// What stands for which network in a drill: nobody of production may hear anything of it.
pub(super) fn drills(estate: &Estate, plan: &RecoveryPlan, road: Road<'_>) -> Vec<Finding> {
    let mut found = Vec::new();
    let here = |of: &NetworkId| estate.site_of_network(*of) == Some(road.to.site);
    for (of, stands) in plan.drills.iter().filter(|(of, _)| here(of)) {
        let Some(network) = estate.networks.get(stands) else {
            let of = estate
                .networks
                .get(of)
                .map_or_else(|| of.to_string(), |n| n.name.clone());
            let text = format!("The network that was to stand for {of} in a drill is gone.");
            found
                .push(Finding::mind(Rule::Exists, of, text).remedy("Choose another, in the plan."));
            continue;
        };
        if let Some(why) = heard(estate, network, road) {
            let text = format!("{} is no network for drills: {why}.", network.name);
            found.push(
                Finding::stop(Rule::Vlan, &network.name, text)
                    .at("drills")
                    .remedy("Choose one that nobody else is on and that no gateway leads out of."),
            );
        }
    }
    found
}

/// Why something of production would hear what is on it; none: nothing would.
pub fn heard(estate: &Estate, network: &Network, road: Road<'_>) -> Option<String> {
    if road.to.networks.values().any(|id| *id == network.id) {
        return Some("machines that come over the pair are on it".into());
    }
    if let Some(gateway) = network.gateways().next() {
        return Some(format!("its gateway {gateway} leads out of it"));
    }
    let other = |m: &&Arc<crate::estate::Machine>| {
        m.proves.is_none()
            && m.deleted.is_none()
            && m.nics.iter().any(|n| n.network == Some(network.id))
    };
    if let Some(machine) = estate.machines_in(network.cluster).find(other) {
        return Some(format!("{} is on it", machine.name));
    }
    if network.is_isolated() {
        return None;
    }
    let site = estate.clusters.get(&network.cluster)?.site;
    let mut same = estate
        .same_domain(site, network.vlan)
        .filter(|n| n.id != network.id);
    // The same of another cluster there, for the same purpose, is heard by nobody else either.
    let same = same.find(|n| n.name != network.name)?;
    Some(format!("its VLAN is that of {} too", same.name))
}
