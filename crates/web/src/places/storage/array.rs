//! One array or filer: its controllers, pools, portals, and what of ours lies on it.

use super::{
    list::{array_state, kind_word},
    width,
};
use crate::{
    frame::{AtDesk, Page, Problem, Signed, page as whole, part},
    places::logbook::lately::{Line, lately},
};
use askama::Template;
use rocket::get;
use zastrugi_core::{
    estate::{LeftLun, Outages},
    ids::ArrayId,
    permits::Act,
};

/// What was ours and is connected no more.
struct LeftRow {
    name: String,
    /// Its number on the array.
    lun: String,
    words: String,
    /// What can be done with it, in words.
    sheet: Option<(&'static str, &'static str)>,
}

#[derive(Template)]
#[template(path = "places/storage/array.html")]
struct ArrayPage {
    id: u64,
    name: String,
    glyph: &'static str,
    word: String,
    lead: String,
    pool: String,
    /// (name, width, figures, what it does for what is made there)
    pools: Vec<(String, u64, String, String)>,
    facts: Vec<(&'static str, String)>,
    /// (glyph, address, why it is silent)
    controllers: Vec<(&'static str, String, String)>,
    /// (glyph, address, what is amiss)
    portals: Vec<(&'static str, String, &'static str)>,
    volumes: Vec<(u64, String, String)>,
    left: Vec<LeftRow>,
    events: Vec<Line>,
    may: bool,
}

fn left(l: &LeftLun) -> LeftRow {
    let (words, sheet) = match (l.reach.len(), l.ours) {
        (0, true) => (
            "no host of ours reaches it".to_owned(),
            Some(("delete-lun", "delete it")),
        ),
        (0, false) => ("no host of ours reaches it".to_owned(), None),
        (n, _) => {
            let hosts = if n == 1 { "host" } else { "hosts" };
            let words = format!("{n} {hosts} of ours can still reach it");
            (words, Some(("withdraw-reach", "take it away")))
        }
    };
    LeftRow {
        name: l.name.clone(),
        lun: l.lun.clone(),
        words,
        sheet,
    }
}

async fn build(signed: &Signed, desk: &AtDesk, id: u64) -> Result<ArrayPage, Problem> {
    let view = desk.look();
    let estate = &view.estate;
    let a = estate
        .arrays
        .get(&ArrayId(id))
        .ok_or_else(|| Problem::not_found("This array"))?;
    let outages = Outages::of(estate);
    let (glyph, word) = array_state(a, &outages);
    Ok(ArrayPage {
        id,
        name: a.name.clone(),
        glyph,
        word,
        lead: format!(
            "{}, {} pools, {} portals.",
            kind_word(a.kind),
            a.pools.len(),
            a.portals.len()
        ),
        pool: a.pools.first().map_or_else(String::new, |p| p.name.clone()),
        pools: a
            .pools
            .iter()
            .map(|p| {
                let figures = format!("{} of {}", p.used, p.capacity);
                let does = p
                    .service
                    .as_ref()
                    .map_or_else(String::new, |s| format!("{}: {}", s.class, s.words()));
                (p.name.clone(), width(p.used, p.capacity), figures, does)
            })
            .collect(),
        facts: vec![
            (
                "Site",
                estate
                    .sites
                    .get(&a.site)
                    .map_or_else(String::new, |s| s.name.clone()),
            ),
            ("Make", format!("{} {}", a.maker, a.model)),
            ("Serial", a.serial.clone()),
            ("Signs in as", a.user.clone()),
        ],
        controllers: a
            .controllers
            .iter()
            .map(|c| {
                let glyph = if c.silent.is_some() { "down" } else { "steady" };
                let words = c.silent.clone().unwrap_or_else(|| "answers".into());
                (glyph, c.address.clone(), words)
            })
            .collect(),
        portals: a
            .portals
            .iter()
            .map(|p| match outages.portal_is_down(a, p) {
                true => ("down", p.clone(), "no host reaches it"),
                false => ("steady", p.clone(), ""),
            })
            .collect(),
        volumes: estate
            .volumes_on(a.id)
            .map(|(v, _)| {
                (
                    v.id.0,
                    v.name.clone(),
                    format!("{} of {}", v.used, v.capacity),
                )
            })
            .collect(),
        left: a.left.iter().map(left).collect(),
        events: lately(desk, &a.id.to_string()).await?,
        may: signed.may(Act::Storage),
    })
}

#[get("/storage/arrays/<id>")]
pub(crate) async fn show(signed: Signed, desk: &AtDesk, id: u64) -> Page {
    let body = build(&signed, desk, id).await?;
    let title = body.name.clone();
    whole(&signed, desk, "storage", &title, &body)
}
#[get("/storage/arrays/<id>/part")]
pub(crate) async fn page_part(signed: Signed, desk: &AtDesk, id: u64) -> Page {
    part(&build(&signed, desk, id).await?)
}
