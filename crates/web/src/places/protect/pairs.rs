//! Pairs of sites: a table of them, one with how it carries both ways and what came over it, and the sheets that keep and remove one.

use crate::frame::{
    AtDesk, Fields, Page, Problem, Query, Signed, Window,
    consequences::Wrong,
    page as whole, part,
    sheet::{Filled, render},
    time,
};
use crate::places::logbook::lately::{Line, lately};
use askama::Template;
use futures::future::BoxFuture;
use rocket::get;
use std::sync::Arc;
use zastrugi_core::{
    estate::{End, Estate, Host, Machine, NetRole, Pair, Way},
    evidence::Probe,
    finding::{Finding, Severity},
    ids::{HostId, NetworkId, PairId, SiteId},
    moment::Moment,
    pairing,
    permits::Act,
    rooms::{
        Proposal,
        pairs::{Ask, Keep, KeepEnd, maps},
    },
    runs::Object,
    view::View,
};

/// A pair in the list.
pub(super) struct PairRow {
    pub(super) id: u64,
    pub(super) name: String,
    pub(super) sites: String,
    pub(super) glyph: &'static str,
    pub(super) state: String,
    pub(super) replicas: usize,
    pub(super) jobs: String,
}

/// How it carries, by what was tried lately.
fn state(found: &[Finding]) -> (&'static str, String) {
    let worst = |severity| found.iter().find(move |f| f.severity == severity);
    match (
        worst(Severity::Stop),
        worst(Severity::Mind),
        worst(Severity::Unchecked),
    ) {
        (Some(f), _, _) => ("down", f.text.clone()),
        (None, Some(f), _) => ("mind", f.text.clone()),
        (None, None, Some(_)) => ("unknown", "not tried lately".into()),
        (None, None, None) => ("steady", "carries both ways".into()),
    }
}

fn names(pair: &Pair, estate: &Estate) -> [String; 2] {
    [0, 1].map(|n| pair.ends[n].site_name(estate))
}

pub(super) fn rows(view: &View, now: Moment) -> Vec<PairRow> {
    let estate = &view.estate;
    let row = |pair: &Arc<Pair>| {
        let (glyph, state) = state(&pairing::look(view, pair, now));
        let jobs = estate.jobs_over(pair.id).map(|j| j.name.as_str());
        PairRow {
            id: pair.id.0,
            name: pair.name.clone(),
            sites: names(pair, estate).join(" – "),
            glyph,
            state,
            replicas: estate.replicas_over(pair.id).count(),
            jobs: jobs.collect::<Vec<_>>().join(", "),
        }
    };
    let mut rows: Vec<_> = estate.pairs.values().map(row).collect();
    rows.sort_by(|a, b| a.name.cmp(&b.name));
    rows
}

/// One direction.
struct WayRow {
    name: String,
    carriers: String,
    cap: String,
    round_trip: String,
    jobs: usize,
    machines: usize,
}

/// What was found, with its shape.
struct Seen {
    glyph: &'static str,
    subject: String,
    text: String,
    evidence: String,
    remedy: String,
}

/// A replica that came over it.
struct Came {
    id: u64,
    name: String,
    original: Option<u64>,
    of: String,
    site: String,
    points: usize,
    newest: String,
    how: &'static str,
    read: String,
    took: String,
}

#[derive(Template)]
#[template(path = "places/protect/pair.html", blocks = ["body"])]
struct PairPage {
    id: u64,
    name: String,
    sentence: String,
    glyph: &'static str,
    state: String,
    ways: Vec<WayRow>,
    facts: Vec<(&'static str, String)>,
    seen: Vec<Seen>,
    rows: Vec<Came>,
    window: Window,
    query: String,
    events: Vec<Line>,
    may: bool,
}

fn seen(f: Finding) -> Seen {
    Seen {
        glyph: match f.severity {
            Severity::Stop => "down",
            Severity::Mind => "mind",
            Severity::Unchecked => "unknown",
            Severity::Clear => "steady",
        },
        subject: f.subject,
        text: f.text,
        evidence: f.evidence,
        remedy: f.remedy.unwrap_or_default(),
    }
}

fn way_row(view: &View, pair: &Pair, way: Way, now: Moment) -> Option<WayRow> {
    let estate = &view.estate;
    let (from, to) = (pair.end(way.from)?, pair.other(way.from)?);
    let carriers: Vec<&str> = from.carriers(estate).map(|h| h.name.as_str()).collect();
    let jobs = estate
        .jobs_over(pair.id)
        .filter(|j| j.to.way() == Some(way));
    let machines = estate.replicas_over(pair.id);
    let machines = machines
        .filter(|m| estate.site_of(m) == Some(to.site))
        .count();
    let cap = match (from.cap.is_none(), from.cap.at(now)) {
        (true, _) => "all of the line".to_owned(),
        (false, Some(rate)) => format!("{}; {rate} now", from.cap),
        (false, None) => format!("{}; all of it now", from.cap),
    };
    Some(WayRow {
        name: format!("{} to {}", from.site_name(estate), to.site_name(estate)),
        carriers: carriers.join(", "),
        cap,
        round_trip: pairing::round_trip(view, way, now).map_or_else(String::new, pairing::millis),
        jobs: jobs.count(),
        machines,
    })
}

fn came(estate: &Estate, m: &Machine) -> Option<Came> {
    let replica = m.replica.as_ref()?;
    let newest = m.replicated().next_back();
    let site = estate.site_of(m).and_then(|s| estate.sites.get(&s));
    Some(Came {
        id: m.id.0,
        name: m.name.clone(),
        original: estate.original_of(replica).map(|o| o.id.0),
        of: replica.name.clone(),
        site: site.map_or_else(String::new, |s| s.name.clone()),
        points: m.replicated().count(),
        newest: newest.map_or_else(String::new, |p| time(p.taken)),
        how: newest.map_or("", |p| p.consistent.word()),
        read: newest.map_or_else(String::new, |p| p.read.to_string()),
        took: newest.map_or_else(String::new, |p| p.took.to_string()),
    })
}

/// What is what at the two sites, in words.
fn mapped(estate: &Estate, pair: &Pair) -> Vec<(&'static str, String)> {
    let [a, b] = &pair.ends;
    let cluster = |id| Object::Cluster(id).name(estate);
    let volume = |id| Object::Volume(id).name(estate);
    let network = |id| Object::Network(id).name(estate);
    let all = [
        ("Clusters", maps::write(&b.clusters, &a.clusters, cluster)),
        ("Volumes", maps::write(&b.volumes, &a.volumes, volume)),
        ("Networks", maps::write(&b.networks, &a.networks, network)),
    ];
    let lines = |text: String| text.lines().collect::<Vec<_>>().join(" · ");
    all.map(|(what, text)| (what, lines(text)))
        .into_iter()
        .filter(|(_, t)| !t.is_empty())
        .collect()
}

/// Processes that do nothing else at its sites; where there is none, those that do everything.
async fn carried_by(desk: &AtDesk, pair: &Pair) -> Result<String, Problem> {
    let all = desk.carriers().await?;
    let own = |sites: &[SiteId]| pair.ends.iter().any(|e| sites.contains(&e.site));
    let names = all
        .into_iter()
        .filter(|(_, sites)| own(sites))
        .map(|(name, _)| name);
    let names: Vec<String> = names.collect();
    Ok(match names.is_empty() {
        true => "this manager's own processes; none at the sites carries for them".into(),
        false => names.join("; "),
    })
}

async fn build(
    signed: &Signed,
    desk: &AtDesk,
    id: u64,
    query: &Query,
) -> Result<PairPage, Problem> {
    let pair = desk.look().estate.pairs.get(&PairId(id)).cloned();
    let pair = pair.ok_or_else(|| Problem::not_found("This pair"))?;
    let (view, now) = (desk.look(), desk.now());
    let estate = &view.estate;
    let found = pairing::look(&view, &pair, now);
    let (glyph, state) = state(&found);
    let mut replicas: Vec<&Arc<Machine>> = estate.replicas_over(pair.id).collect();
    replicas.sort_by(|a, b| a.name.cmp(&b.name));
    let (window, range) = Window::of(&format!("/protect/pairs/{id}"), query, replicas.len());
    let [a, b] = names(&pair, estate);
    let mut facts = mapped(estate, &pair);
    let packed = if pair.squeezed {
        "packed for the line"
    } else {
        "as they are"
    };
    facts.push(("Bytes go", format!("over TLS, {packed}")));
    facts.push(("Carried by", carried_by(desk, &pair).await?));
    Ok(PairPage {
        id,
        name: pair.name.clone(),
        sentence: match replicas.len() {
            0 => format!("{a} and {b}; nothing came over it yet."),
            1 => format!("{a} and {b}; one replica came over it."),
            n => format!("{a} and {b}; {n} replicas came over it."),
        },
        glyph,
        state,
        ways: pair
            .ways()
            .into_iter()
            .filter_map(|w| way_row(&view, &pair, w, now))
            .collect(),
        facts,
        seen: found.into_iter().map(seen).collect(),
        rows: replicas[range]
            .iter()
            .filter_map(|m| came(estate, m))
            .collect(),
        window,
        query: query.0.with("", ""),
        events: lately(desk, &pair.id.to_string()).await?,
        may: signed.may(Act::Storage),
    })
}

#[get("/protect/pairs/<id>")]
pub(crate) async fn show(signed: Signed, desk: &AtDesk, id: u64, query: Query) -> Page {
    try_again(desk, id).await;
    let body = build(&signed, desk, id, &query).await?;
    let title = body.name.clone();
    whole(&signed, desk, "protect", &title, &body)
}

#[get("/protect/pairs/<id>/part")]
pub(crate) async fn page_part(signed: Signed, desk: &AtDesk, id: u64, query: Query) -> Page {
    part(&build(&signed, desk, id, &query).await?.as_body())
}

/// What was not tried lately is tried.
async fn try_again(desk: &AtDesk, id: u64) {
    let view = desk.look();
    if let Some(pair) = view.estate.pairs.get(&PairId(id)) {
        desk.try_ends(pairing::probes(&view.estate, &pair.ends))
            .await;
    }
}

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
    let guest = |n: &&Arc<zastrugi_core::estate::Network>| {
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
    let (sa, sb) = (sent_a.site, sent_b.site);
    // What nobody wrote yet is what is alike by its name, of the sites that are chosen.
    let chosen = fields.get("maps_of") == format!("{}-{}", a.site, b.site);
    let said = |field: &str, there: Option<String>, usual: String| match (there, chosen) {
        (Some(there), _) => fields.or(field, &there),
        (None, true) => fields.or(field, &usual),
        (None, false) => usual,
    };
    let written = had.map(|p| {
        let [a, b] = &p.ends;
        let cluster = |id| Object::Cluster(id).name(estate);
        let volume = |id| Object::Volume(id).name(estate);
        let network = |id| Object::Network(id).name(estate);
        (
            maps::write(&b.clusters, &a.clusters, cluster),
            maps::write(&b.volumes, &a.volumes, volume),
            maps::write(&b.networks, &a.networks, network),
        )
    });
    let clusters = said(
        "clusters",
        written.as_ref().map(|w| w.0.clone()),
        alike(clusters_at(estate, sa), clusters_at(estate, sb)),
    );
    let volumes = said(
        "volumes",
        written.as_ref().map(|w| w.1.clone()),
        String::new(),
    );
    let networks = said(
        "networks",
        written.as_ref().map(|w| w.2.clone()),
        alike(networks_at(estate, sa), networks_at(estate, sb)),
    );
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
            clusters: clusters.clone(),
            volumes: volumes.clone(),
            networks: networks.clone(),
            had: had.is_some(),
        }),
        ask: Proposal::Pairs(Ask::Keep(Box::new(Keep {
            pair: of,
            name: name.as_str().into(),
            ends: [sent_a, sent_b],
            zone: zone.as_str().into(),
            squeezed,
            clusters: clusters.as_str().into(),
            volumes: volumes.as_str().into(),
            networks: networks.as_str().into(),
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

#[derive(Template)]
#[template(path = "places/protect/typed_name.html")]
struct Typed {
    id: u64,
    name: String,
    typed: String,
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
