//! One pool: its spares, who has what, and what is due.

use super::state;
use crate::{
    frame::{AtDesk, Page, Problem, Signed, Word, machine_state, page as whole, part, time},
    places::logbook::lately::{Line, lately},
};
use askama::Template;
use rocket::get;
use zastrugi_core::{
    estate::{Estate, Machine, SparePool},
    finding::Severity,
    ids::{MachineId, SparePoolId},
    permits::Act,
    rooms::{Proposal, restocking},
    spares::{Stand, due, newest},
};

/// More machines are counted.
const SHOWN: usize = 100;

struct Member {
    id: u64,
    name: String,
    glyph: &'static str,
    word: Word,
    what: &'static str,
    version: u32,
    by: String,
    since: String,
    addresses: String,
    held: bool,
}

#[derive(Template)]
#[template(path = "places/pools/page.html", blocks = ["body"])]
struct PoolPage {
    id: u64,
    name: String,
    glyph: &'static str,
    word: String,
    lead: String,
    facts: Vec<(&'static str, String)>,
    template: (u64, String),
    members: Vec<Member>,
    more: usize,
    /// Why what is due can't begin.
    stops: Vec<String>,
    events: Vec<Line>,
    ready: bool,
    may: bool,
}

fn member(estate: &Estate, id: MachineId, what: &'static str) -> Option<Member> {
    let m: &Machine = estate.machines.get(&id)?;
    let of = m.of_pool.as_deref()?;
    let host = m.host.and_then(|h| estate.hosts.get(&h));
    let (glyph, word) = machine_state(m, host.map(|h| &**h));
    let addresses: Vec<String> = m
        .nics
        .iter()
        .flat_map(|n| &n.addresses)
        .map(ToString::to_string)
        .collect();
    Some(Member {
        id: m.id.0,
        name: m.name.clone(),
        glyph,
        word,
        what,
        version: of.version,
        by: of.held.as_ref().map_or_else(String::new, |h| h.by.clone()),
        since: of.held.as_ref().map_or_else(String::new, |h| time(h.since)),
        addresses: addresses.join(", "),
        held: of.held.is_some() && !of.back,
    })
}

fn members(estate: &Estate, stand: &Stand) -> (Vec<Member>, usize) {
    let lists = [
        (&stand.held, "handed out"),
        (&stand.ready, "ready"),
        (&stand.coming, "on its way"),
        (&stand.stale, "to be replaced"),
        (&stand.back, "thrown away"),
    ];
    let all: Vec<Member> = lists
        .into_iter()
        .flat_map(|(ids, what)| ids.iter().filter_map(move |id| member(estate, *id, what)))
        .collect();
    let more = all.len().saturating_sub(SHOWN);
    (all.into_iter().take(SHOWN).collect(), more)
}

/// What stands in the way of what is due, as long as nothing is being done about it.
fn stops(signed: &Signed, desk: &AtDesk, estate: &Estate, pool: &SparePool) -> Vec<String> {
    if due(estate, pool).is_nothing() {
        return vec![];
    }
    let open = |ask: &Proposal| matches!(ask, Proposal::Restocking(restocking::Ask::Follow { pool: p }) if *p == pool.id);
    let view = desk.look();
    if view
        .runs
        .iter()
        .filter_map(|r| desk.plan(r.id))
        .any(|p| open(&p.ask))
    {
        return vec![];
    }
    let ask = Proposal::Restocking(restocking::Ask::Follow { pool: pool.id });
    let said = desk.assess(&signed.viewer, &ask);
    let all = said
        .findings()
        .iter()
        .filter(|f| f.severity == Severity::Stop);
    all.map(|f| f.text.clone()).take(4).collect()
}

/// What it keeps, in words.
fn facts(estate: &Estate, pool: &SparePool) -> Vec<(&'static str, String)> {
    let networks: Vec<String> = pool
        .networks
        .iter()
        .map(|n| {
            n.and_then(|n| estate.networks.get(&n))
                .map_or_else(|| "none of ours".into(), |n| n.name.clone())
        })
        .collect();
    vec![
        (
            "Newest version",
            newest(estate, pool).map_or_else(|| "none yet".into(), |v| v.to_string()),
        ),
        (
            "Disks",
            if pool.dependent {
                "lie on the version, take what is written"
            } else {
                "copied in full"
            }
            .into(),
        ),
        ("Each has", format!("{} vCPUs, {}", pool.vcpus, pool.memory)),
        ("Names", pool.pattern.clone()),
        (
            "Networks",
            if networks.is_empty() {
                "no cards".into()
            } else {
                networks.join(", ")
            },
        ),
        (
            "Cluster",
            estate
                .clusters
                .get(&pool.cluster)
                .map_or_else(String::new, |c| c.name.clone()),
        ),
        (
            "Thrown away",
            if pool.ends_off {
                "when given back, or once it is off"
            } else {
                "when given back"
            }
            .into(),
        ),
    ]
}

async fn build(signed: &Signed, desk: &AtDesk, id: u64) -> Result<PoolPage, Problem> {
    let view = desk.look();
    let estate = &view.estate;
    let id = SparePoolId(id);
    let pool = estate
        .spare_pools
        .get(&id)
        .ok_or_else(|| Problem::not_found("This pool"))?;
    let stand = Stand::of(estate, pool);
    let (glyph, word) = state(estate, pool, &stand);
    let (members, more) = members(estate, &stand);
    let template = estate.templates.get(&pool.template);
    Ok(PoolPage {
        id: id.0,
        name: pool.name.clone(),
        glyph,
        word,
        lead: format!(
            "{} handed out; at least {} are kept ready, at most {} exist.",
            stand.held.len(),
            pool.spare,
            pool.most
        ),
        facts: facts(estate, pool),
        template: (
            pool.template.0,
            template.map_or_else(|| "a template that is gone".into(), |t| t.name.clone()),
        ),
        members,
        more,
        stops: stops(signed, desk, estate, pool),
        events: lately(desk, &id.to_string()).await?,
        ready: !stand.ready.is_empty(),
        may: signed.may(Act::Machines),
    })
}

#[get("/pools/<id>", rank = 2)]
pub(crate) async fn show(signed: Signed, desk: &AtDesk, id: u64) -> Page {
    let body = build(&signed, desk, id).await?;
    let title = body.name.clone();
    whole(&signed, desk, "machines", &title, &body)
}

#[get("/pools/<id>/part")]
pub(crate) async fn page_part(signed: Signed, desk: &AtDesk, id: u64) -> Page {
    part(&build(&signed, desk, id).await?.as_body())
}
