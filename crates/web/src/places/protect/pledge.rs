//! One pledge: its clauses, who has it, and how it stands with each of them.

use super::{
    clauses::Bars,
    list::{Row, columns},
};
use crate::{
    frame::{AtDesk, Page, Problem, Query, Signed, Window, page as whole, part, sheet::render},
    places::logbook::lately::{Line, lately},
};
use askama::Template;
use rocket::get;
use std::{cmp::Reverse, sync::Arc};
use zastrugi_core::{
    ids::PledgeId,
    permits::Act,
    pledges::{Brief, Standing},
};

#[derive(Template)]
#[template(path = "places/protect/pledge.html", blocks = ["body"])]
struct PledgePage {
    id: u64,
    name: String,
    sentence: String,
    note: String,
    to: String,
    by_hand: usize,
    clauses: Vec<(&'static str, String)>,
    bars: String,
    rows: Vec<Row>,
    columns: Vec<&'static str>,
    window: Window,
    query: String,
    events: Vec<Line>,
    may: bool,
}

fn sentence(all: &[&Arc<Brief>]) -> String {
    let kept = all
        .iter()
        .filter(|p| p.standing() == Standing::Kept)
        .count();
    match (all.len(), kept) {
        (0, _) => "No machine has it.".into(),
        (1, 1) => "One machine has it; all that it is promised is kept.".into(),
        (1, _) => "One machine has it; not all that it is promised is kept.".into(),
        (n, kept) if n == kept => {
            format!("{n} machines have it; all that they are promised is kept.")
        }
        (n, kept) => format!(
            "{n} machines have it; for {} not all is kept.",
            match n - kept {
                1 => "one of them".to_owned(),
                n => format!("{n} of them"),
            }
        ),
    }
}

async fn build(
    signed: &Signed,
    desk: &AtDesk,
    id: u64,
    query: &Query,
) -> Result<PledgePage, Problem> {
    let view = desk.look();
    let estate = &view.estate;
    let id = PledgeId(id);
    let pledge = estate
        .pledges
        .get(&id)
        .ok_or_else(|| Problem::not_found("This pledge"))?;
    let promises = desk.promises();
    let mut having: Vec<&Arc<Brief>> = promises.iter().filter(|p| p.has(id)).collect();
    let bars = Bars::of(
        having.iter().map(|p| &***p),
        &format!("/protect?pledge={}&", id.0),
    );
    let name = |p: &Brief| estate.machines.get(&p.machine).map(|m| m.name.clone());
    having.sort_by_cached_key(|p| (Reverse(p.standing()), name(p)));
    let path = format!("/protect/pledges/{}", id.0);
    let (window, shown) = Window::of(&path, query, having.len());
    let columns = columns(std::iter::once(pledge));
    let rows = having[shown].iter().filter_map(|p| {
        let m = estate.machines.get(&p.machine)?;
        Row::of(estate, m, &columns, desk.now())
    });
    Ok(PledgePage {
        id: id.0,
        name: pledge.name.clone(),
        sentence: sentence(&having),
        note: pledge.note.clone(),
        to: pledge
            .to
            .as_ref()
            .map_or_else(String::new, ToString::to_string),
        by_hand: estate
            .given_by_hand(id)
            .filter(|m| m.deleted.is_none())
            .count(),
        clauses: pledge
            .demands()
            .iter()
            .map(|d| (d.sort().word(), d.words(estate)))
            .collect(),
        bars: render(&bars),
        rows: rows.collect(),
        columns: columns.iter().map(|s| s.word()).collect(),
        window,
        query: query.0.with("", ""),
        events: lately(desk, &id.to_string()).await?,
        may: signed.may(Act::Machines),
    })
}

#[get("/protect/pledges/<id>")]
pub(crate) async fn show(signed: Signed, desk: &AtDesk, id: u64, query: Query) -> Page {
    let body = build(&signed, desk, id, &query).await?;
    let title = body.name.clone();
    whole(&signed, desk, "protect", &title, &body)
}

#[get("/protect/pledges/<id>/part")]
pub(crate) async fn page_part(signed: Signed, desk: &AtDesk, id: u64, query: Query) -> Page {
    part(&build(&signed, desk, id, &query).await?.as_body())
}
