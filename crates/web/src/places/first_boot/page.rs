//! One document: its versions, and what came of it at the machines whose guests were told.

use super::{newest, outcome, told};
use crate::{
    frame::{AtDesk, Page, Problem, Signed, page as whole, part, time},
    places::logbook::lately::{Line, lately},
};
use askama::Template;
use rocket::get;
use zastrugi_core::{
    estate::{Edition, Machine},
    ids::FirstBootId,
    permits::Act,
};

/// More machines are counted; those where something was not done come first.
const SHOWN: usize = 50;

struct Version {
    number: u32,
    made: String,
    host_name: String,
    user: String,
    keys: Vec<String>,
    dns: String,
    search: String,
    zone: String,
    commands: Vec<String>,
}

struct Told {
    id: u64,
    name: String,
    version: u32,
    glyph: &'static str,
    words: String,
}

#[derive(Template)]
#[template(path = "places/first_boot/page.html", blocks = ["body"])]
struct DocumentPage {
    id: u64,
    name: String,
    newest: u32,
    versions: Vec<Version>,
    told: Vec<Told>,
    more: usize,
    events: Vec<Line>,
    may: bool,
}

fn version(v: &Edition) -> Version {
    let dns: Vec<String> = v.dns.iter().map(ToString::to_string).collect();
    let user = v.user.as_ref().map(|u| match u.password {
        Some(_) => format!("{}, with a password", u.name),
        None => format!("{}, without a password", u.name),
    });
    // The middle of a key tells nobody anything.
    let short = |key: &String| {
        let parts: Vec<&str> = key.split_whitespace().collect();
        let tail: String = parts
            .get(1)
            .map_or("", |b| b)
            .chars()
            .rev()
            .take(12)
            .collect();
        let tail: String = tail.chars().rev().collect();
        format!(
            "{} …{tail} {}",
            parts.first().unwrap_or(&""),
            parts.get(2..).unwrap_or_default().join(" ")
        )
    };
    Version {
        number: v.number,
        made: time(v.made),
        host_name: v.host_name.clone(),
        user: user.unwrap_or_else(|| "none".into()),
        keys: v.user.iter().flat_map(|u| &u.keys).map(short).collect(),
        dns: dns.join(", "),
        search: v.search.join(", "),
        zone: v.zone.clone(),
        commands: v.commands.clone(),
    }
}

fn row(m: &Machine) -> Told {
    let (glyph, words) = outcome(m);
    Told {
        id: m.id.0,
        name: m.name.clone(),
        version: m.first_boot.as_ref().map_or(0, |b| b.version),
        glyph,
        words,
    }
}

async fn build(signed: &Signed, desk: &AtDesk, id: u64) -> Result<DocumentPage, Problem> {
    let view = desk.look();
    let id = FirstBootId(id);
    let document = view.estate.first_boots.get(&id);
    let document = document.ok_or_else(|| Problem::not_found("This document"))?;
    let mut all: Vec<Told> = told(&view, id).into_iter().map(row).collect();
    all.sort_by_key(|t| match t.glyph {
        "mind" => 0,
        "unknown" => 1,
        _ => 2,
    });
    let more = all.len().saturating_sub(SHOWN);
    all.truncate(SHOWN);
    Ok(DocumentPage {
        id: id.0,
        name: document.name.clone(),
        newest: newest(document),
        versions: document.versions.iter().rev().map(version).collect(),
        told: all,
        more,
        events: lately(desk, &id.to_string()).await?,
        may: signed.may(Act::Machines),
    })
}

#[get("/first-boot/<id>")]
pub(crate) async fn show(signed: Signed, desk: &AtDesk, id: u64) -> Page {
    let body = build(&signed, desk, id).await?;
    let title = body.name.clone();
    whole(&signed, desk, "machines", &title, &body)
}

#[get("/first-boot/<id>/part")]
pub(crate) async fn page_part(signed: Signed, desk: &AtDesk, id: u64) -> Page {
    part(&build(&signed, desk, id).await?.as_body())
}
