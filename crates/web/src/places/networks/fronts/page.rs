//! One front: who stands behind it, who serves, and how connections are passed on.

use super::{day, state};
use crate::{
    frame::{AtDesk, Page, Problem, Signed, page as whole, part},
    places::logbook::lately::{Line, lately},
};
use askama::Template;
use rocket::get;
use std::net::SocketAddr;
use zastrugi_core::{
    estate::{Estate, Front, MemberState, Seen},
    fronts::{address, labelled},
    ids::FrontId,
    permits::Act,
};

struct Row {
    id: Option<u64>,
    name: String,
    at: String,
    host: String,
    glyph: &'static str,
    words: String,
}

#[derive(Template)]
#[template(path = "places/networks/fronts/page.html")]
struct FrontPage {
    id: u64,
    name: String,
    glyph: &'static str,
    words: String,
    at: String,
    facts: Vec<(&'static str, String)>,
    network: Option<(u64, String)>,
    label: String,
    rows: Vec<Row>,
    note: String,
    events: Vec<Line>,
    may: bool,
}

fn how(seen: Option<&Seen>) -> (&'static str, String) {
    match seen.map(|s| &s.state) {
        Some(MemberState::Serves) => ("steady", "serves".into()),
        Some(MemberState::Fails(why)) => ("down", format!("fails: {why}")),
        Some(MemberState::Drains) => ("busy", "taken out, its connections end".into()),
        Some(MemberState::Out) => ("off", "out".into()),
        None => ("unknown", "its load balancer was not told yet".into()),
    }
}

fn rows(estate: &Estate, front: &Front) -> Vec<Row> {
    let seen = front.seen.clone().unwrap_or_default();
    let mut known = Vec::new();
    let machine = |m: &std::sync::Arc<zastrugi_core::estate::Machine>| {
        let at = address(front, m).map(|a| SocketAddr::new(a, front.serves).to_string());
        known.extend(at.clone());
        let (glyph, words) = match &at {
            None => ("mind", "has no address in it".to_owned()),
            Some(at) => how(seen.get(at)),
        };
        Row {
            id: Some(m.id.0),
            name: m.name.clone(),
            at: at.unwrap_or_default(),
            host: m
                .host
                .and_then(|h| estate.hosts.get(&h))
                .map_or_else(String::new, |h| h.name.clone()),
            glyph,
            words,
        }
    };
    let mut rows: Vec<Row> = labelled(estate, front).into_iter().map(machine).collect();
    let strange = seen
        .iter()
        .filter(|(at, _)| !known.contains(at))
        .map(|(at, seen)| Row {
            id: None,
            name: "no machine of it".into(),
            at: at.clone(),
            host: String::new(),
            glyph: "mind",
            words: how(Some(seen)).1,
        });
    rows.extend(strange);
    rows
}

fn certificate(front: &Front) -> String {
    match &front.certificate {
        Some(c) => format!(
            "for {}, until {}",
            c.shown.names.join(", "),
            day(c.shown.until)
        ),
        None => "none: nothing is shown by TLS".into(),
    }
}

async fn build(signed: &Signed, desk: &AtDesk, id: u64) -> Result<FrontPage, Problem> {
    let view = desk.look();
    let estate = &view.estate;
    let front = estate
        .fronts
        .get(&FrontId(id))
        .ok_or_else(|| Problem::not_found("This front"))?;
    let (glyph, words) = state(estate, front);
    let balancer = estate.balancers.get(&front.balancer);
    Ok(FrontPage {
        id,
        name: front.name.clone(),
        glyph,
        words,
        at: SocketAddr::new(front.address, front.port).to_string(),
        facts: vec![
            (
                "Load balancer",
                balancer.map_or_else(String::new, |b| b.name.clone()),
            ),
            ("Passes on", front.manner.sentence()),
            ("Members serve at port", front.serves.to_string()),
            ("Certificate", certificate(front)),
        ],
        network: estate
            .networks
            .get(&front.network)
            .map(|n| (n.id.0, n.name.clone())),
        label: front.label.to_string(),
        rows: rows(estate, front),
        note: front.note.clone(),
        events: lately(desk, &front.id.to_string()).await?,
        may: signed.may(Act::Storage),
    })
}

#[get("/fronts/<id>")]
pub(crate) async fn show(signed: Signed, desk: &AtDesk, id: u64) -> Page {
    let body = build(&signed, desk, id).await?;
    let title = body.name.clone();
    whole(&signed, desk, "networks", &title, &body)
}
#[get("/fronts/<id>/part")]
pub(crate) async fn page_part(signed: Signed, desk: &AtDesk, id: u64) -> Page {
    part(&build(&signed, desk, id).await?)
}
