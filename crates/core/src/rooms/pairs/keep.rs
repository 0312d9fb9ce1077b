//! The checks before a pair is kept or removed (rules, section 17).

use super::{Draft, Event, Keep, KeepEnd, maps};
use crate::{
    caps::Cap,
    estate::{Cluster, End, Estate, NetRole, Network, Pair, Volume},
    finding::{Finding, Rule, Severity},
    ids::{ClusterId, NetworkId, PairId, SiteId, VolumeId},
    limits,
    pairing::{self, LEAST},
    text::Line,
};
use std::{collections::BTreeMap, sync::Arc};

fn stop(rule: Rule, field: &str, text: impl Into<String>) -> Finding {
    Finding::stop(rule, field, text).at(field)
}

/// The field of an end.
fn field(n: usize, of: &str) -> String {
    format!("{}_{of}", ["a", "b"][n])
}

pub(super) fn keep(draft: &mut Draft<'_>, ask: &Keep) {
    let name = ask.name.trim().to_owned();
    draft.title = match (ask.pair, name.as_str()) {
        (_, "") => "Pair two sites".to_owned(),
        (None, name) => format!("Make pair {name}"),
        (Some(_), name) => format!("Change pair {name}"),
    };
    let had = ask.pair.and_then(|id| draft.estate().pairs.get(&id)).cloned();
    if ask.pair.is_some() && had.is_none() {
        return draft.found(stop(Rule::Exists, "name", "The pair is gone."));
    }
    named(draft, ask, &name);
    let sites = sites(draft, ask, had.as_deref());
    let ends: Vec<Option<End>> = (0..2).map(|n| end(draft, ask, n)).collect();
    // Everything that is wrong is said at once.
    let Some(sites) = sites else { return };
    let (Some(clusters), Some(volumes), Some(networks)) = (
        mapped(draft, "clusters", &ask.clusters, |estate, n, name| cluster(estate, sites[n], name)),
        mapped(draft, "volumes", &ask.volumes, |estate, n, name| volume(estate, sites[n], name)),
        mapped(draft, "networks", &ask.networks, |estate, n, name| network(estate, sites[n], name)),
    ) else {
        return;
    };
    let [Some(a), Some(b)] = <[_; 2]>::try_from(ends).unwrap_or_default() else { return };
    let pair = Pair {
        id: had.as_ref().map_or_else(|| PairId(draft.number()), |p| p.id),
        name,
        // What arrives at the first site is found by what it was at the second.
        ends: [
            End { clusters: clusters.1, volumes: volumes.1, networks: networks.1, ..a },
            End { clusters: clusters.0, volumes: volumes.0, networks: networks.0, ..b },
        ],
        squeezed: ask.squeezed,
        trouble: had.as_ref().and_then(|p| p.trouble.clone()),
    };
    if had.as_ref().is_some_and(|h| **h == pair) {
        return draft.found(stop(Rule::Nothing, "name", "Nothing of the pair is changed."));
    }
    if pair.ends.iter().all(|e| e.clusters.is_empty()) {
        draft.found(stop(Rule::Place, "clusters", "Nothing could be replicated: say which cluster is for which."));
    }
    // One that is there can be changed while a side is down.
    let softer = |f: Finding| match had.is_some() && f.stops() {
        true => Finding { severity: Severity::Mind, ..f },
        false => f,
    };
    let found = pairing::look(draft.view, &pair, draft.now);
    draft.found_all(found.into_iter().map(softer));
    caps(draft, &pair);
    let event = if had.is_some() { Event::Kept } else { Event::Made };
    draft.intend(event(Box::new(pair)));
}

fn named(draft: &mut Draft<'_>, ask: &Keep, name: &str) {
    let other = draft.estate().pair_named(name).is_some_and(|p| Some(p.id) != ask.pair);
    if name.is_empty() {
        draft.found(stop(Rule::Name, "name", "Give it a name."));
    } else if let Err(words) = limits::GROUP.check(name.chars().count()) {
        draft.found(stop(Rule::Name, "name", words));
    } else if other {
        draft.found(stop(Rule::Name, "name", format!("There is a pair {name} already.")));
    }
    if ask.pair.is_none()
        && let Err(words) = limits::PAIRS.check(draft.estate().pairs.len() + 1)
    {
        draft.found(stop(Rule::Count, "name", words));
    }
}

fn sites(draft: &mut Draft<'_>, ask: &Keep, had: Option<&Pair>) -> Option<[SiteId; 2]> {
    let chosen = [0, 1].map(|n| ask.ends[n].site.filter(|s| draft.estate().sites.contains_key(s)));
    let [Some(a), Some(b)] = chosen else {
        let n = usize::from(chosen[0].is_some());
        draft.found(stop(Rule::Exists, &field(n, "site"), "Choose a site."));
        return None;
    };
    if a == b {
        draft.found(stop(Rule::Place, "b_site", "Both are the same site; choose another."));
        return None;
    }
    if had.is_some_and(|p| p.ends[0].site != a || p.ends[1].site != b) {
        draft.found(stop(Rule::Place, "b_site", "A pair stays with its sites; make another pair for others."));
        return None;
    }
    Some([a, b])
}

fn end(draft: &mut Draft<'_>, ask: &Keep, n: usize) -> Option<End> {
    let KeepEnd { site, carriers, network, cap } = &ask.ends[n];
    let site = site.filter(|s| draft.estate().sites.contains_key(s))?;
    let estate = draft.estate();
    let own: Vec<_> = carriers.iter().copied().filter(|id| estate.hosts.get(id).is_some_and(|h| h.site == site)).collect();
    if own.len() < carriers.len() {
        draft.found(stop(Rule::Place, &field(n, "carriers"), "Choose hosts of this site."));
    }
    if own.len() < LEAST {
        let text = format!("At least {LEAST} hosts carry at each site, that one may be out of service.");
        draft.found(stop(Rule::Minimum, &field(n, "carriers"), text));
    }
    let replicates = |id: &NetworkId| estate.networks.get(id).is_some_and(|n| n.role == NetRole::Replication && at(estate, n) == Some(site));
    if network.as_ref().is_some_and(|id| !replicates(id)) {
        draft.found(stop(Rule::Vlan, &field(n, "network"), "Choose a network for replication of this site."));
    }
    let cap = match Cap::read(cap, ask.zone.trim()) {
        Ok(cap) => cap,
        Err(words) => {
            let zone = words.contains("time zone");
            draft.found(stop(Rule::State, &if zone { "zone".to_owned() } else { field(n, "cap") }, words));
            return None;
        }
    };
    Some(End {
        site,
        carriers: own.into_iter().collect(),
        network: *network,
        cap,
        clusters: BTreeMap::new(),
        volumes: BTreeMap::new(),
        networks: BTreeMap::new(),
    })
}

fn mapped<T: Ord + Copy>(
    draft: &mut Draft<'_>,
    field: &str,
    text: &str,
    find: impl Fn(&Estate, usize, &str) -> Result<T, String>,
) -> Option<maps::Maps<T>> {
    let estate = draft.estate();
    match maps::read(text, |n, name| find(estate, n, name)) {
        Ok(maps) => Some(maps),
        Err(words) => {
            draft.found(stop(Rule::Place, field, words));
            None
        }
    }
}

fn none(what: &str, name: &str, estate: &Estate, site: SiteId) -> String {
    let at = estate.sites.get(&site).map_or("the site", |s| s.name.as_str());
    let shown: String = name.chars().take(60).collect();
    format!("There is no {what} “{shown}” at {at}.")
}

fn cluster(estate: &Estate, site: SiteId, name: &str) -> Result<ClusterId, String> {
    let found = estate.cluster_named(name).filter(|c| c.site == site && c.ready);
    found.map(|c| c.id).ok_or_else(|| none("cluster", name, estate, site))
}

fn of_site(estate: &Estate, cluster: Option<ClusterId>) -> Option<SiteId> {
    estate.clusters.get(&cluster?).map(|c: &Arc<Cluster>| c.site)
}

fn at(estate: &Estate, network: &Network) -> Option<SiteId> {
    of_site(estate, Some(network.cluster))
}

fn volume(estate: &Estate, site: SiteId, name: &str) -> Result<VolumeId, String> {
    let here = |v: &&Arc<Volume>| v.name == name && of_site(estate, v.cluster) == Some(site);
    let found = estate.volumes.values().find(here);
    found.map(|v| v.id).ok_or_else(|| none("volume", name, estate, site))
}

/// By its name, or by `cluster/name` where two clusters of a site call theirs alike.
fn network(estate: &Estate, site: SiteId, name: &str) -> Result<NetworkId, String> {
    let (cluster, own) = name.split_once('/').map_or((None, name), |(c, n)| (Some(c.trim()), n.trim()));
    let fits = |n: &&Arc<Network>| {
        let of = estate.clusters.get(&n.cluster);
        let named = cluster.is_none_or(|c| of.is_some_and(|of| of.name.eq_ignore_ascii_case(c)));
        n.name == own && n.ready && named && of.is_some_and(|of| of.site == site)
    };
    let found: Vec<&Arc<Network>> = estate.networks.values().filter(fits).collect();
    match found.as_slice() {
        [] => Err(none("network", name, estate, site)),
        [one] => Ok(one.id),
        _ => Err(format!("Several clusters have a network {own}; write its cluster before it: cluster/{own}.")),
    }
}

/// How much of the line is taken, as it was understood.
fn caps(draft: &mut Draft<'_>, pair: &Pair) {
    for (n, end) in pair.ends.iter().enumerate() {
        let site = end.site_name(draft.estate());
        let finding = match end.cap.is_none() {
            true => Finding::clear(Rule::State, &site, format!("What leaves {site} takes as much of the line as there is.")),
            false => {
                let text = format!("What leaves {site} takes no more than this: {}.", end.cap);
                Finding::clear(Rule::State, &site, text).because(end.cap.zone.clone())
            }
        };
        draft.found(finding.at(&field(n, "cap")));
    }
}

pub(super) fn remove(draft: &mut Draft<'_>, id: PairId, typed: &Line) {
    "Remove a pair".clone_into(&mut draft.title);
    let Some(pair) = draft.estate().pairs.get(&id).cloned() else {
        return draft.found(stop(Rule::Exists, "typed", "The pair is gone."));
    };
    let name = &pair.name;
    draft.title = format!("Remove pair {name}");
    let jobs: Vec<String> = draft.estate().jobs_over(id).map(|j| j.name.clone()).collect();
    if !jobs.is_empty() {
        let text = format!("Jobs replicate over it: {}.", jobs.join(", "));
        draft.found(stop(Rule::State, "typed", text).remedy("Remove them first, or let them copy elsewhere."));
    }
    let plans: Vec<String> = draft.estate().plans_over(id).map(|p| p.name.clone()).collect();
    if !plans.is_empty() {
        let text = format!("Recovery plans lead over it: {}.", plans.join(", "));
        draft.found(stop(Rule::State, "typed", text).remedy("Remove them first, or let them lead over another pair."));
    }
    let replicas = draft.estate().replicas_over(id).count();
    if replicas > 0 {
        let text = format!("{replicas} replicas came over it. They stay, nothing brings them up to date any more, and no promise rests on them.");
        draft.found(Finding::mind(Rule::Content, name, text).at("typed"));
    }
    if typed.trim() != name {
        draft.found(stop(Rule::Name, "typed", format!("Type its name to confirm: {name}.")));
    }
    draft.intend(Event::Removed { pair: id, name: name.clone() });
}
