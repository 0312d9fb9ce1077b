//! Pairs of sites: a table of them, and one with how it carries both ways and what came over it.

use crate::frame::{AtDesk, Page, Problem, Query, Signed, Window, page as whole, part, time};
use crate::places::logbook::lately::{Line, lately};
use askama::Template;
use rocket::get;
use std::sync::Arc;
use zastrugi_core::{
    estate::{Estate, Machine, Pair, Way},
    finding::{Finding, Severity},
    ids::{PairId, SiteId},
    moment::Moment,
    pairing,
    permits::Act,
    rooms::pairs::maps,
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
pub(super) struct Seen {
    pub(super) glyph: &'static str,
    pub(super) subject: String,
    pub(super) text: String,
    pub(super) evidence: String,
    pub(super) remedy: String,
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

pub(super) fn seen(f: Finding) -> Seen {
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
