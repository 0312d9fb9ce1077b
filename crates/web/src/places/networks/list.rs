//! All networks: a matrix for each cluster, and the switches.

use super::{fronts, matrix::picture};
use crate::frame::{AtDesk, Page, Signed, page as whole, part, sheet::render};
use askama::Template;
use rocket::get;
use std::{
    collections::{BTreeSet, HashMap},
    net::IpAddr,
    sync::Arc,
};
use zastrugi_core::{
    addressing::{held, room},
    estate::{Cluster, Network, Subnet, Switch},
    ids::NetworkId,
    permits::Act,
    view::View,
};

struct ClusterView {
    id: u64,
    name: String,
    empty: bool,
    matrix: String,
    carried: Vec<Carried>,
    /// (glyph, words, network that a run can mend)
    drift: Vec<(&'static str, String, Option<u64>)>,
    unchecked: usize,
}

/// A network of the cluster in figures.
struct Carried {
    id: u64,
    name: String,
    role: &'static str,
    vlan: String,
    /// (subnet, addresses for guests that are in use or kept, of how many)
    subnets: Vec<(String, String)>,
    machines: usize,
}

/// Counted in one walk over the cluster's machines, whatever the number of networks.
fn carried(view: &View, cluster: &Cluster) -> Vec<Carried> {
    let networks = view.estate.networks_of(cluster.id);
    let mut machines: HashMap<NetworkId, usize> = HashMap::new();
    let mut used: HashMap<NetworkId, BTreeSet<IpAddr>> = HashMap::new();
    for network in &networks {
        used.insert(network.id, network.reserved.keys().copied().collect());
    }
    for machine in view.estate.machines_in(cluster.id) {
        let on: BTreeSet<_> = machine.nics.iter().filter_map(|n| n.network).collect();
        for id in on {
            *machines.entry(id).or_default() += 1;
        }
        for nic in &machine.nics {
            if let Some(used) = nic.network.and_then(|id| used.get_mut(&id)) {
                used.extend(&nic.addresses);
            }
        }
    }
    let one = |n: &Arc<Network>| Carried {
        id: n.id.0,
        name: n.name.clone(),
        role: n.role.word(),
        vlan: n.vlan.map_or_else(|| "none".into(), |v| v.to_string()),
        subnets: n
            .subnets
            .iter()
            .map(|s| (s.net.to_string(), filled(s, &used[&n.id])))
            .collect(),
        machines: machines.get(&n.id).copied().unwrap_or_default(),
    };
    networks.into_iter().map(one).collect()
}

fn filled(subnet: &Subnet, used: &BTreeSet<IpAddr>) -> String {
    let taken = held(subnet, used);
    match room(subnet) {
        0 => "by hand".to_owned(),
        of if of > u128::from(u32::MAX) => taken.to_string(),
        of => format!("{taken} of {of}"),
    }
}

/// (name, glyph, word, site, address, ports, hosts heard)
type SwitchRow = (String, &'static str, String, String, String, usize, usize);

#[derive(Template)]
#[template(path = "places/networks/list.html")]
struct List {
    sentence: String,
    clusters: Vec<ClusterView>,
    switches: Vec<SwitchRow>,
    fronts: String,
    may: bool,
}

/// The most lines of drift beside a matrix.
const SHOWN: usize = 12;

fn switch_row(view: &View, s: &Switch) -> SwitchRow {
    let (glyph, word) = match (s.known, &s.access.silent) {
        (false, _) => ("busy", "being connected".to_owned()),
        (true, None) => ("steady", "steady".to_owned()),
        (true, Some(why)) => ("unknown", format!("silent: {why}")),
    };
    let site = view.estate.sites.get(&s.site);
    let heard = s.ports.values().filter(|p| p.neighbour.is_some()).count();
    (
        s.name.clone(),
        glyph,
        word,
        site.map_or_else(String::new, |s| s.name.clone()),
        s.access.address.clone(),
        s.ports.len(),
        heard,
    )
}

fn build(signed: &Signed, desk: &AtDesk) -> List {
    let view = desk.look();
    let estate = &view.estate;
    let at = |site: u64| signed.site.is_none_or(|s| s == site);
    let (mut networks, mut wrong) = (0, 0);
    let mut clusters = Vec::new();
    for cluster in estate.clusters.values().filter(|c| at(c.site.0)) {
        let found = picture(&view, cluster);
        let count = estate.networks_of(cluster.id).len();
        networks += count;
        wrong += found.drift.len();
        let more = found.drift.len().saturating_sub(SHOWN);
        let mut drift: Vec<_> = found
            .drift
            .into_iter()
            .take(SHOWN)
            .map(|(words, id)| (if id.is_some() { "down" } else { "mind" }, words, id))
            .collect();
        if more > 0 {
            drift.push(("mind", format!("and {more} more"), None));
        }
        clusters.push(ClusterView {
            id: cluster.id.0,
            name: cluster.name.clone(),
            empty: count == 0,
            matrix: render(&found.matrix),
            carried: carried(&view, cluster),
            drift,
            unchecked: found.unchecked,
        });
    }
    let mut switches: Vec<_> = estate
        .switches
        .values()
        .filter(|s| at(s.site.0))
        .map(|s| switch_row(&view, s))
        .collect();
    switches.sort();
    let count = match networks {
        0 => "No network yet.".to_owned(),
        1 => "1 network".to_owned(),
        n => format!("{n} networks"),
    };
    let sentence = match (networks, wrong) {
        (0, _) => count,
        (_, 0) => format!("{count}, on every host as they were meant."),
        (_, 1) => format!("{count}. One host differs from what was meant."),
        (_, n) => format!("{count}. {n} places differ from what was meant."),
    };
    List {
        sentence,
        clusters,
        switches,
        fronts: render(&fronts::list::of(&view, &at, signed.may(Act::Storage))),
        may: signed.may(Act::Storage),
    }
}

#[get("/networks")]
pub(crate) fn show(signed: Signed, desk: &AtDesk) -> Page {
    whole(&signed, desk, "networks", "Networks", &build(&signed, desk))
}
#[get("/networks/part")]
pub(crate) fn list_part(signed: Signed, desk: &AtDesk) -> Page {
    part(&build(&signed, desk))
}
