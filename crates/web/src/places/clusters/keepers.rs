//! The keepers of a cluster: what its page says of them, and the sheet that places them.

use crate::frame::{
    Fields,
    sheet::{Filled, render},
};
use askama::Template;
use std::sync::Arc;
use zastrugi_core::{
    estate::{Cluster, ClusterKind, Estate, Host},
    ids::{ClusterId, HostId},
    rooms::{
        Proposal,
        keepers::{Ask, Place, WANTED, choose, quorum},
    },
    view::View,
};

/// Who decides the recovery of a cluster, in words.
pub(super) fn words(estate: &Estate, cluster: &Cluster) -> String {
    let Some(keeping) = &cluster.keeping else {
        return "none: while the manager or its database is down, nothing restarts".into();
    };
    let mut names: Vec<String> = keeping
        .hosts
        .iter()
        .filter_map(|id| estate.hosts.get(id))
        .map(|h| format!("{}{}", h.name, standing(h, cluster)))
        .collect();
    names.sort();
    let volume = estate
        .volumes
        .get(&keeping.volume)
        .map_or("a volume that is gone", |v| v.name.as_str());
    format!("on {}; they agree on {volume}", names.join(", "))
}

/// What a host says of its keeper, where that is worth saying.
fn standing(host: &Host, cluster: &Cluster) -> &'static str {
    let volume = cluster.keeping.as_ref().map(|k| k.volume);
    let member = host.cluster == Some(cluster.id);
    match host.keepers.get(&cluster.id) {
        _ if !host.reports() => " (not heard)",
        _ if member && volume.is_some_and(|v| host.paths_up(v) == 0) => {
            " (does not reach the volume)"
        }
        Some(keeper) if keeper.keeps => " (decides)",
        Some(_) => "",
        None => " (does not run)",
    }
}

/// The clusters that the keepers on a host watch, in words; none where it has none.
pub(crate) fn on_host(estate: &Estate, host: &Host) -> Option<String> {
    let named = estate.clusters.values().filter(|c| {
        c.keeping
            .as_ref()
            .is_some_and(|k| k.hosts.contains(&host.id))
    });
    let all: Vec<String> = named
        .map(|c| format!("of {}{}", c.name, standing(host, c)))
        .collect();
    (!all.is_empty()).then(|| all.join(", "))
}

struct Choice {
    id: u64,
    name: String,
    words: String,
    chosen: bool,
}

#[derive(Template)]
#[template(path = "places/clusters/keepers_fields.html")]
struct KeepersFields {
    cluster: u64,
    name: String,
    volume: String,
    hosts: Vec<Choice>,
    witness: bool,
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let estate = &view.estate;
    let id = fields
        .ids::<ClusterId>("ids")
        .first()
        .copied()
        .unwrap_or(ClusterId(0));
    let cluster = estate.clusters.get(&id);
    let name = cluster.map_or_else(String::new, |c| c.name.clone());
    let volume = cluster.and_then(|c| quorum(estate, c));
    let had = cluster
        .and_then(|c| c.keeping.as_ref())
        .map(|k| k.hosts.iter().copied().collect::<Vec<_>>());
    let best = || {
        cluster
            .zip(volume)
            .map(|(c, v)| choose(estate, c, v))
            .unwrap_or_default()
    };
    let chosen: Vec<HostId> = match fields.has("sent") {
        true => fields.ids("host"),
        false => had.unwrap_or_else(best),
    };
    let volume = volume
        .and_then(|v| estate.volumes.get(&v))
        .map_or_else(String::new, |v| v.name.clone());
    Filled {
        title: format!("Keepers of {name}"),
        lead: "Small processes on hosts that bring machines back when the manager can't: also when it, its database and the host beneath them fail in the same second.".into(),
        run: format!("Run: place the keepers of {name}"),
        danger: false,
        back: format!("/clusters/{}", id.0),
        fields: render(&KeepersFields {
            cluster: id.0,
            name,
            volume,
            hosts: cluster.map(|c| choices(estate, c, &chosen)).unwrap_or_default(),
            witness: cluster.is_some_and(|c| asks_a_witness(c)),
        }),
        ask: Proposal::Keepers(Ask::Place(Place {
            cluster: id,
            hosts: chosen,
        })),
        wrong: vec![],
    }
}

/// Whether one that decides may be a host that is not the cluster's: a witness.
fn asks_a_witness(cluster: &Cluster) -> bool {
    cluster.hosts.len() < WANTED || cluster.kind == ClusterKind::TwoSites
}

/// The cluster's hosts; where it needs a witness, those elsewhere too.
fn choices(estate: &Estate, cluster: &Cluster, chosen: &[HostId]) -> Vec<Choice> {
    let witness = asks_a_witness(cluster);
    let own = |h: &Host| h.cluster == Some(cluster.id);
    let fits = |h: &&Arc<Host>| own(h) || chosen.contains(&h.id) || witness;
    let mut all: Vec<&Arc<Host>> = estate.hosts.values().filter(fits).collect();
    all.sort_by_key(|h| (!own(h), h.cluster.is_some(), h.name.clone(), h.id));
    let choice = |h: &Arc<Host>| {
        let site = estate.sites.get(&h.site).map_or("", |s| s.name.as_str());
        let place = Host::DOMAINS
            .iter()
            .filter_map(|d| Some(format!("{d} {}", h.labels.get(*d)?)));
        let other = h.cluster.and_then(|c| estate.clusters.get(&c));
        let of = other.map_or_else(|| "in no cluster".to_owned(), |c| format!("of {}", c.name));
        let of = (!own(h)).then_some(of);
        let words: Vec<String> = of
            .into_iter()
            .chain([site.to_owned()])
            .chain(place)
            .collect();
        Choice {
            id: h.id.0,
            name: h.name.clone(),
            words: words.join(" · "),
            chosen: chosen.contains(&h.id),
        }
    };
    all.into_iter().map(choice).collect()
}
