//! The sheets of pairs: one that keeps both ends with what is what at the other, and one that removes.

use super::typed::Typed;
use crate::frame::{
    AtDesk, Fields,
    consequences::Wrong,
    sheet::{Filled, render},
};
use askama::Template;
use futures::future::BoxFuture;
use std::sync::Arc;
use zastrugi_core::{
    estate::{End, Estate, Host, NetRole, Network, Pair},
    evidence::Probe,
    ids::{HostId, NetworkId, PairId, SiteId},
    pairing,
    rooms::{
        Proposal,
        pairs::{Ask, Keep, KeepEnd, maps},
    },
    runs::Object,
    view::View,
};

#[derive(Template)]
#[template(path = "places/protect/keep_pair.html")]
struct KeepFields {
    of: String,
    name: String,
    ends: Vec<EndFields>,
    sites: Vec<(u64, String)>,
    zone: String,
    squeezed: bool,
    clusters: String,
    volumes: String,
    networks: String,
    had: bool,
}

struct EndFields {
    key: &'static str,
    legend: &'static str,
    site: u64,
    carriers: String,
    network: u64,
    networks: Vec<(u64, String)>,
    cap: String,
}

const KEYS: [(&str, &str); 2] = [("a", "One site"), ("b", "The other site")];

/// Hosts of a site, by name.
fn hosts(estate: &Estate, site: SiteId) -> Vec<&Arc<Host>> {
    let mut all: Vec<_> = estate.hosts.values().filter(|h| h.site == site).collect();
    all.sort_by(|a, b| a.name.cmp(&b.name));
    all
}

/// The hosts that are named, or what is wrong with a name.
fn named(estate: &Estate, text: &str) -> Result<Vec<HostId>, String> {
    let words = text
        .split([',', ' ', '\n'])
        .map(str::trim)
        .filter(|w| !w.is_empty());
    let find = |name: &str| {
        let shown: String = name.chars().take(60).collect();
        let found = estate.hosts.values().find(|h| h.name == name);
        found
            .map(|h| h.id)
            .ok_or_else(|| format!("There is no host “{shown}”."))
    };
    words.map(find).collect()
}

/// An end as it is chosen, and as it is sent.
fn end(
    view: &View,
    fields: &Fields,
    n: usize,
    had: Option<&Pair>,
    wrong: &mut Vec<Wrong>,
) -> (EndFields, KeepEnd) {
    let estate = &view.estate;
    let (key, legend) = KEYS[n];
    let had: Option<&End> = had.map(|p| &p.ends[n]);
    let sites: Vec<SiteId> = estate.sites.keys().copied().collect();
    let usual = had.map(|e| e.site).or_else(|| sites.get(n).copied());
    let site = fields
        .get(&format!("{key}_site"))
        .parse()
        .ok()
        .map(SiteId)
        .or(usual);
    let first = || {
        let at = site.map(|s| hosts(estate, s)).unwrap_or_default();
        let able = at.iter().filter(|h| h.accepts_work()).take(pairing::LEAST);
        able.map(|h| h.name.as_str()).collect::<Vec<_>>().join(", ")
    };
    let names = |e: &End| {
        e.carriers(estate)
            .map(|h| h.name.as_str())
            .collect::<Vec<_>>()
            .join(", ")
    };
    let same = had.filter(|e| Some(e.site) == site);
    let field = format!("{key}_carriers");
    let own =
        fields.get(&format!("{key}_was")) == site.map_or_else(String::new, |s| s.0.to_string());
    // Those of another site are of no use when the site is changed.
    let text = match (had, own) {
        (Some(end), _) => fields.or(&field, &names(end)),
        (None, true) => fields.or(&field, &first()),
        (None, false) => first(),
    };
    let carriers = named(estate, &text).unwrap_or_else(|words| {
        wrong.push((format!("{key}_carriers"), words));
        vec![]
    });
    let here = |id| {
        estate
            .clusters
            .get(&id)
            .is_some_and(|c| Some(c.site) == site)
    };
    let networks = estate
        .networks
        .values()
        .filter(|n| n.role == NetRole::Replication && here(n.cluster));
    let networks: Vec<(u64, String)> = networks.map(|n| (n.id.0, n.name.clone())).collect();
    let network = fields.or(
        &format!("{key}_network"),
        &same
            .and_then(|e| e.network)
            .map_or_else(|| "0".into(), |n| n.0.to_string()),
    );
    let network: u64 = network.parse().unwrap_or(0);
    let cap = fields.or(
        &format!("{key}_cap"),
        &same.map_or_else(String::new, |e| e.cap.to_string()),
    );
    let sent = KeepEnd {
        site,
        carriers,
        network: (network > 0).then_some(NetworkId(network)),
        cap: cap.as_str().into(),
    };
    let shown = EndFields {
        key,
        legend,
        site: site.map_or(0, |s| s.0),
        carriers: text,
        network,
        networks,
        cap,
    };
    (shown, sent)
}

/// What is alike by its name at both sites, and what stands alone.
fn alike(left: Vec<&str>, right: Vec<&str>) -> String {
    if let ([a], [b]) = (left.as_slice(), right.as_slice()) {
        return format!("{a} = {b}");
    }
    let both = left.iter().filter(|n| right.contains(n));
    both.map(|n| format!("{n} = {n}"))
        .collect::<Vec<_>>()
        .join("\n")
}

fn clusters_at(estate: &Estate, site: Option<SiteId>) -> Vec<&str> {
    let all = estate
        .clusters
        .values()
        .filter(|c| Some(c.site) == site && c.ready);
    all.map(|c| c.name.as_str()).collect()
}

fn networks_at(estate: &Estate, site: Option<SiteId>) -> Vec<&str> {
    let here = |id| {
        estate
            .clusters
            .get(&id)
            .is_some_and(|c| Some(c.site) == site)
    };
    let guest = |n: &&Arc<Network>| {
        n.role == NetRole::Guest && n.ready && !n.is_isolated() && here(n.cluster)
    };
    let mut all: Vec<&str> = estate
        .networks
        .values()
        .filter(guest)
        .map(|n| n.name.as_str())
        .collect();
    all.sort_unstable();
    // Two of the same name have to be told apart by whoever writes it.
    let doubled: Vec<&str> = all
        .windows(2)
        .filter(|w| w[0] == w[1])
        .map(|w| w[0])
        .collect();
    all.retain(|n| !doubled.contains(n));
    all
}

/// What is what at the two sites, as it stands in its fields.
struct Said {
    clusters: String,
    volumes: String,
    networks: String,
}

impl Said {
    /// What nobody wrote yet is what is alike by its name, of the sites that are chosen.
    fn of(estate: &Estate, fields: &Fields, had: Option<&Pair>, ends: [&EndFields; 2]) -> Said {
        let [a, b] = ends.map(|e| Some(SiteId(e.site)).filter(|s| s.0 > 0));
        let chosen = fields.get("maps_of") == format!("{}-{}", ends[0].site, ends[1].site);
        let said = |field: &str, there: Option<String>, usual: String| match (there, chosen) {
            (Some(there), _) => fields.or(field, &there),
            (None, true) => fields.or(field, &usual),
            (None, false) => usual,
        };
        let cluster = |id| Object::Cluster(id).name(estate);
        let volume = |id| Object::Volume(id).name(estate);
        let network = |id| Object::Network(id).name(estate);
        let [clusters, volumes, networks] = match had.map(|p| &p.ends) {
            Some([a, b]) => [
                Some(maps::write(&b.clusters, &a.clusters, cluster)),
                Some(maps::write(&b.volumes, &a.volumes, volume)),
                Some(maps::write(&b.networks, &a.networks, network)),
            ],
            None => [None, None, None],
        };
        Said {
            clusters: said(
                "clusters",
                clusters,
                alike(clusters_at(estate, a), clusters_at(estate, b)),
            ),
            volumes: said("volumes", volumes, String::new()),
            networks: said(
                "networks",
                networks,
                alike(networks_at(estate, a), networks_at(estate, b)),
            ),
        }
    }
}

pub(crate) fn keep(view: &View, fields: &Fields) -> Filled {
    let mut wrong = Vec::new();
    let estate = &view.estate;
    let of = fields.get("of").parse().ok().map(PairId);
    let had = of.and_then(|id| estate.pairs.get(&id));
    let had = had.map(|p| &**p);
    let (a, sent_a) = end(view, fields, 0, had, &mut wrong);
    let (b, sent_b) = end(view, fields, 1, had, &mut wrong);
    let name = fields.or("name", had.map_or("", |p| &p.name));
    let zone = had.map(|p| {
        p.ends
            .iter()
            .map(|e| e.cap.zone.as_str())
            .find(|z| !z.is_empty())
            .unwrap_or("UTC")
    });
    let zone = fields.or("zone", zone.unwrap_or("UTC"));
    let squeezed = fields.ticked("squeezed", had.is_none_or(|p| p.squeezed));
    let said = Said::of(estate, fields, had, [&a, &b]);
    let mut sites: Vec<(u64, String)> = estate
        .sites
        .values()
        .map(|s| (s.id.0, s.name.clone()))
        .collect();
    sites.sort_by(|a, b| a.1.cmp(&b.1));
    Filled {
        title: had.map_or_else(|| "Pair two sites".into(), |p| format!("Change pair {}", p.name)),
        lead: "Machines of each site are replicated to the other over the line between them. Every host that carries tries every one at the other end before it is kept, both ways.".into(),
        run: if had.is_some() { "Run: change it" } else { "Run: pair them" }.into(),
        danger: false,
        back: of.map_or_else(|| "/protect".to_owned(), |id| format!("/protect/pairs/{}", id.0)),
        fields: render(&KeepFields {
            of: of.map_or_else(String::new, |id| id.0.to_string()),
            name: name.clone(),
            ends: vec![a, b],
            sites,
            zone: zone.clone(),
            squeezed,
            clusters: said.clusters.clone(),
            volumes: said.volumes.clone(),
            networks: said.networks.clone(),
            had: had.is_some(),
        }),
        ask: Proposal::Pairs(Ask::Keep(Box::new(Keep {
            pair: of,
            name: name.as_str().into(),
            ends: [sent_a, sent_b],
            zone: zone.as_str().into(),
            squeezed,
            clusters: said.clusters.as_str().into(),
            volumes: said.volumes.as_str().into(),
            networks: said.networks.as_str().into(),
        }))),
        wrong,
    }
}

/// Tries every way between the hosts that are chosen, where that was not done lately.
pub(crate) fn prepare<'a>(desk: &'a AtDesk, fields: &'a Fields) -> BoxFuture<'a, ()> {
    Box::pin(async move {
        let view = desk.look();
        let Proposal::Pairs(Ask::Keep(keep)) = keep(&view, fields).ask else {
            return;
        };
        let end = |e: &KeepEnd| End {
            site: e.site.unwrap_or(SiteId(0)),
            carriers: e.carriers.iter().copied().collect(),
            network: None,
            cap: Default::default(),
            clusters: Default::default(),
            volumes: Default::default(),
            networks: Default::default(),
        };
        let ends = [end(&keep.ends[0]), end(&keep.ends[1])];
        let probes: Vec<Probe> = pairing::probes(&view.estate, &ends);
        desk.try_ends(probes).await;
    })
}

pub(crate) fn remove(view: &View, fields: &Fields) -> Filled {
    let id = fields.get("id").parse().map_or(PairId(0), PairId);
    let pair = view.estate.pairs.get(&id);
    let name = pair.map_or_else(|| "a pair".to_owned(), |p| p.name.clone());
    Filled {
        title: format!("Remove pair {name}"),
        lead: "Nothing goes over it any more.".into(),
        run: "Run: remove it".into(),
        danger: true,
        back: format!("/protect/pairs/{}", id.0),
        fields: render(&Typed {
            id: id.0,
            name,
            typed: fields.get("typed").to_owned(),
        }),
        ask: Proposal::Pairs(Ask::Remove {
            pair: id,
            typed: fields.get("typed").into(),
        }),
        wrong: vec![],
    }
}
