//! One shared disk: who has it and how, who writes, who took over from whom, and what protects it.

use super::{state, writer};
use crate::{
    frame::{AtDesk, Page, Problem, Signed, Word, machine_state, page as whole, part, time},
    places::logbook::lately::{Line, lately},
};
use askama::Template;
use rocket::get;
use uuid::Uuid;
use zastrugi_core::{
    estate::{Estate, SharedDisk, TakeOver},
    permits::Act,
    rooms::sharing,
    shared::{Heals, Statement, statements, troubles},
};

struct Node {
    id: u64,
    name: String,
    glyph: &'static str,
    word: Word,
    host: String,
    slot: String,
    mode: &'static str,
    /// What it does with the disk.
    part: String,
}

struct Amiss {
    id: u64,
    name: String,
    words: String,
    moves: bool,
}

struct Over {
    at: String,
    to: String,
    from: String,
    took: String,
}

#[derive(Template)]
#[template(path = "places/machines/sharing/page.html", blocks = ["body"])]
struct SharedPage {
    key: Uuid,
    name: String,
    glyph: &'static str,
    word: String,
    lead: String,
    volume: (u64, String),
    facts: Vec<(&'static str, String)>,
    /// Who holds the reservation, and since when.
    holder: Option<(String, String)>,
    nodes: Vec<Node>,
    amiss: Vec<Amiss>,
    /// Giving it anew heals some of it.
    heals: bool,
    overs: Vec<Over>,
    statements: Vec<Statement>,
    events: Vec<Line>,
    may: bool,
}

/// The name of a machine by its own identity.
fn called(estate: &Estate, uuid: &Uuid) -> String {
    let found = estate.machine_with_uuid(uuid);
    found.map_or_else(
        || format!("a machine that is gone ({uuid})"),
        |m| m.name.clone(),
    )
}

fn nodes(estate: &Estate, key: Uuid, disk: &SharedDisk) -> Vec<Node> {
    let mut all: Vec<_> = estate.nodes(key).collect();
    all.sort_by(|a, b| a.name.cmp(&b.name));
    let node = |m: &std::sync::Arc<zastrugi_core::estate::Machine>| {
        let host = m.host.and_then(|h| estate.hosts.get(&h));
        let (glyph, word) = machine_state(m, host.map(|h| &**h));
        let has = m.shares(key);
        let registered = disk.registered.get(&m.uuid);
        Node {
            id: m.id.0,
            name: m.name.clone(),
            glyph,
            word,
            host: host.map_or_else(String::new, |h| h.name.clone()),
            slot: has.map_or_else(String::new, |s| s.slot.to_string()),
            mode: has.map_or("", |s| s.mode.word()),
            part: match (disk.is_held_by(m), registered) {
                (true, _) => "writes: it holds the reservation".into(),
                (false, Some(since)) => format!("stands by, registered since {}", time(*since)),
                (false, None) => "not registered".into(),
            },
        }
    };
    all.into_iter().map(node).collect()
}

fn overs(estate: &Estate, disk: &SharedDisk) -> Vec<Over> {
    let over = |t: &TakeOver| Over {
        at: time(t.first),
        to: called(estate, &t.to),
        from: called(estate, &t.from),
        took: t.took().to_string(),
    };
    disk.takeovers.iter().rev().map(over).collect()
}

async fn build(signed: &Signed, desk: &AtDesk, key: &str) -> Result<SharedPage, Problem> {
    let view = desk.look();
    let estate = &view.estate;
    let key: Uuid = key.parse().map_err(|_| Problem::not_found("This disk"))?;
    let (volume, disk) = estate
        .shared_disk(key)
        .ok_or_else(|| Problem::not_found("This disk"))?;
    let (glyph, word) = state(estate, key, disk);
    let found = troubles(estate, key, disk);
    let name = |id| {
        estate
            .machines
            .get(&id)
            .map_or_else(String::new, |m| m.name.clone())
    };
    Ok(SharedPage {
        key,
        name: disk.name.clone(),
        glyph,
        word,
        lead: format!(
            "{} machines have it; {} writes.",
            estate.nodes(key).count(),
            writer(estate, disk)
        ),
        volume: (volume.id.0, volume.name.clone()),
        facts: vec![
            (
                "Size",
                format!(
                    "{}, {}",
                    disk.size,
                    super::super::hardware::kind(disk.provisioning)
                ),
            ),
            ("Takes", disk.takes.to_string()),
            ("Where machines see it", disk.slot.to_string()),
        ],
        holder: disk
            .holder
            .map(|h| (called(estate, &h.machine), time(h.since))),
        nodes: nodes(estate, key, disk),
        heals: found.iter().any(|t| t.heals == Heals::Giving),
        amiss: found
            .into_iter()
            .map(|t| Amiss {
                id: t.machine.0,
                name: name(t.machine),
                words: t.words,
                moves: t.heals == Heals::Moving,
            })
            .collect(),
        overs: overs(estate, disk),
        statements: statements(estate, key, (volume, disk)),
        events: lately(desk, &sharing::about(key)).await?,
        may: signed.may(Act::Machines),
    })
}

#[get("/storage/shared/<key>")]
pub(crate) async fn show(signed: Signed, desk: &AtDesk, key: &str) -> Page {
    let body = build(&signed, desk, key).await?;
    let title = body.name.clone();
    whole(&signed, desk, "storage", &title, &body)
}

#[get("/storage/shared/<key>/part")]
pub(crate) async fn page_part(signed: Signed, desk: &AtDesk, key: &str) -> Page {
    part(&build(&signed, desk, key).await?)
}
