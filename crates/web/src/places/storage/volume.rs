//! One volume: its room in both layers, its paths, what is on it.

use super::{copies, paths, records, state, width};
use crate::{
    frame::{
        AtDesk, Page, Problem, Signed, Word, machine_state, page as whole, part, sheet::render,
    },
    places::logbook::lately::{Line, lately},
};
use askama::Template;
use rocket::get;
use zastrugi_core::{
    estate::{Array, Outages, Volume, Why},
    ids::VolumeId,
    permits::Act,
    view::View,
};

struct MachineRow {
    id: u64,
    name: String,
    glyph: &'static str,
    word: Word,
    host: String,
    disks: String,
}

#[derive(Template)]
#[template(path = "places/storage/volume.html")]
struct VolumePage {
    id: u64,
    name: String,
    glyph: &'static str,
    word: String,
    lead: String,
    /// (what, width, figures)
    room: Vec<(&'static str, u64, String)>,
    forecast: String,
    facts: Vec<(&'static str, String)>,
    qualities: Vec<String>,
    uid: String,
    note: String,
    paths: String,
    served: Option<ServedView>,
    drift: Vec<String>,
    drifts: bool,
    /// Who keeps copies, where it lies on the hosts' own disks.
    copies: String,
    pooled: bool,
    shared: Vec<crate::places::machines::Shared>,
    strays: Vec<records::Row>,
    more_strays: usize,
    /// How many of them nobody knows.
    unknown: usize,
    may_machines: bool,
    machines: Vec<MachineRow>,
    more: usize,
    events: Vec<Line>,
    may: bool,
}

/// The most machines that are listed; the rest is counted.
const SHOWN: usize = 100;

fn machines(view: &View, volume: &Volume) -> (Vec<MachineRow>, usize) {
    let estate = &view.estate;
    let mut all: Vec<_> = estate.machines_with_disk_on(volume.id).collect();
    all.sort_by(|a, b| a.name.cmp(&b.name));
    let more = all.len().saturating_sub(SHOWN);
    let row = |m: &&std::sync::Arc<zastrugi_core::estate::Machine>| {
        let host = m.host.and_then(|h| estate.hosts.get(&h));
        let (glyph, word) = machine_state(m, host.map(|h| &**h));
        MachineRow {
            id: m.id.0,
            name: m.name.clone(),
            glyph,
            word,
            host: host.map_or_else(String::new, |h| h.name.clone()),
            disks: m.disk_total().to_string(),
        }
    };
    (all.iter().take(SHOWN).map(row).collect(), more)
}

/// The volume's own room, what is promised on it, and the pool beneath; the earlier one to be full counts.
fn room(view: &View, v: &Volume) -> Vec<(&'static str, u64, String)> {
    let promised = v.promised(&view.estate);
    let mut rows = vec![
        (
            "Written",
            width(v.used, v.capacity),
            format!("{} of {}", v.used, v.capacity),
        ),
        (
            "Promised",
            width(promised, v.capacity),
            format!("{promised} of disks"),
        ),
    ];
    let backing = v.backing.as_ref();
    if let Some(pooled) = &v.pooled {
        let raw = pooled.members.values().map(|s| s.raw).sum();
        let held = pooled.members.values().map(|s| s.held).sum();
        rows.push(("Own disks", width(held, raw), format!("{held} of {raw}")));
    }
    let pool = backing.and_then(|b| view.estate.arrays.get(&b.array)?.pool(&b.pool));
    if let Some(pool) = pool {
        rows.push((
            "Pool",
            width(pool.used, pool.capacity),
            format!("{} of {}", pool.used, pool.capacity),
        ));
    }
    rows
}

/// What the array says that it does for it, line by line, with who said so and since when.
struct ServedView {
    lines: Vec<(&'static str, String)>,
    array: String,
    since: String,
    asked: &'static str,
}

fn served(array: &Array, volume: &Volume) -> Option<ServedView> {
    let served = array.served.get(&volume.id)?;
    let mut lines = served.service.lines();
    if let Some(group) = &served.group {
        lines.push(("Copied together", format!("with all of {group}")));
    }
    let asked = match array.answers() {
        true => "it is asked every few seconds",
        false => "now it does not answer",
    };
    Some(ServedView {
        lines,
        array: array.name.clone(),
        since: crate::frame::time(served.since),
        asked,
    })
}

async fn build(signed: &Signed, desk: &AtDesk, id: u64) -> Result<VolumePage, Problem> {
    let view = desk.look();
    let estate = &view.estate;
    let v = estate
        .volumes
        .get(&VolumeId(id))
        .ok_or_else(|| Problem::not_found("This volume"))?;
    let (glyph, word) = state(&view, v);
    let drift = v.drift(estate);
    let backing = v.backing.as_ref();
    let array = backing.and_then(|b| estate.arrays.get(&b.array));
    let hosts = v.hosts(estate);
    let intended = match &v.intended {
        None => format!("meant for all {} of the cluster", hosts.len()),
        Some(_) => format!("meant for {} chosen ones", hosts.len()),
    };
    let (rows, more) = machines(&view, v);
    Ok(VolumePage {
        id,
        name: v.name.clone(),
        glyph,
        word,
        lead: format!("{} free, {} machines on it.", v.free(), rows.len() + more),
        room: room(&view, v),
        forecast: desk.forecast(v).await?.to_string(),
        qualities: v.qualities.iter().map(String::from).collect(),
        facts: vec![
            (
                "Cluster",
                v.cluster
                    .and_then(|c| estate.clusters.get(&c))
                    .map_or_else(String::new, |c| c.name.clone()),
            ),
            (
                "Lies on",
                array.map_or_else(
                    || copies::lies_on(v),
                    |a| {
                        format!(
                            "{}, pool {}",
                            a.name,
                            backing.map_or("", |b| b.pool.as_str())
                        )
                    },
                ),
            ),
            ("Hosts", intended),
        ],
        uid: v.uid.clone(),
        note: v.note.clone(),
        served: array.and_then(|a| served(a, v)),
        paths: render(&paths::picture(&view, v)),
        drifts: v.ready && !Outages::of(estate).mendable(estate, v).is_empty(),
        drift: drift
            .iter()
            .map(|d| {
                if d.misses() {
                    format!("{} does not mount it.", d.host.name)
                } else {
                    format!("{} has {} of {} paths.", d.host.name, d.up, d.of)
                }
            })
            .collect(),
        shared: crate::places::machines::shared_on(&view, v),
        strays: records::rows(&view, v),
        more_strays: v.strays.more,
        unknown: v
            .strays(estate)
            .filter(|(.., w)| *w == Why::Unknown)
            .count(),
        may_machines: signed.may(Act::Machines),
        machines: rows,
        more,
        copies: copies::of(&view, v, signed.may(Act::Storage))
            .map_or_else(String::new, |c| render(&c)),
        pooled: v.pooled.is_some(),
        events: lately(desk, &v.id.to_string()).await?,
        may: signed.may(Act::Storage),
    })
}

#[get("/storage/volumes/<id>")]
pub(crate) async fn show(signed: Signed, desk: &AtDesk, id: u64) -> Page {
    let body = build(&signed, desk, id).await?;
    let title = body.name.clone();
    whole(&signed, desk, "storage", &title, &body)
}
#[get("/storage/volumes/<id>/part")]
pub(crate) async fn page_part(signed: Signed, desk: &AtDesk, id: u64) -> Page {
    part(&build(&signed, desk, id).await?)
}
