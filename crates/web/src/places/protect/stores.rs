//! Stores of backups: a table of them, one with what it has of each machine, and the sheet that forgets one.

use crate::frame::{
    AtDesk, Fields, Page, Problem, Query, Signed, Window, page as whole, part,
    sheet::{Filled, render},
    time,
    viewer::MaySettings,
};
use crate::places::logbook::lately::{Line, lately};
use askama::Template;
use rocket::{get, http::Status, post};
use std::sync::Arc;
use zastrugi_core::{
    estate::{Estate, Lies, Series, Store},
    ids::StoreId,
    permits::Act,
    rooms::{Proposal, stores::Ask},
    units::Bytes,
    view::View,
};

/// A store in the list.
pub(super) struct StoreRow {
    pub(super) id: u64,
    pub(super) name: String,
    pub(super) site: String,
    pub(super) at: String,
    pub(super) glyph: &'static str,
    pub(super) state: &'static str,
    pub(super) points: String,
    pub(super) newest: String,
}

fn state(store: &Store) -> (&'static str, &'static str) {
    match (store.ready, store.taken_out) {
        (false, _) => ("busy", "being made"),
        (true, None) => ("mind", "its key was never taken out"),
        (true, Some(_)) => ("steady", "ready"),
    }
}

fn counted(series: &[&Arc<Series>]) -> String {
    let points: usize = series.iter().map(|s| s.points.len()).sum();
    let bytes: Bytes = series.iter().map(|s| s.stored()).sum();
    match points {
        0 => "none".into(),
        1 => format!("1 of one machine, {bytes}"),
        n => format!("{n} of {} machines, {bytes}", series.len()),
    }
}

pub(super) fn rows(estate: &Estate) -> Vec<StoreRow> {
    let row = |store: &Arc<Store>| {
        let series: Vec<_> = estate.series_in(store.id).collect();
        let newest = series
            .iter()
            .filter_map(|s| s.newest())
            .max_by_key(|p| p.taken);
        let (glyph, state) = state(store);
        StoreRow {
            id: store.id.0,
            name: store.name.clone(),
            site: estate
                .sites
                .get(&store.site)
                .map_or_else(String::new, |s| s.name.clone()),
            at: store.lies.words(),
            glyph,
            state,
            points: counted(&series),
            newest: newest.map_or_else(String::new, |p| time(p.taken)),
        }
    };
    let mut rows: Vec<_> = estate.stores.values().map(row).collect();
    rows.sort_by(|a, b| a.name.cmp(&b.name));
    rows
}

/// What a store has of one machine.
struct SeriesRow {
    uuid: uuid::Uuid,
    name: String,
    /// Where its promises stand; none: it is gone.
    machine: Option<u64>,
    points: usize,
    newest: String,
    how: &'static str,
    stored: String,
}

#[derive(Template)]
#[template(path = "places/protect/store.html", blocks = ["body"])]
struct StorePage {
    csrf: String,
    id: u64,
    name: String,
    sentence: String,
    glyph: &'static str,
    state: &'static str,
    site: String,
    facts: Vec<(&'static str, String)>,
    /// For how long, where it locks.
    locks: String,
    taken_out: String,
    /// Shown this once.
    key: Option<String>,
    wrong: String,
    rows: Vec<SeriesRow>,
    window: Window,
    query: String,
    events: Vec<Line>,
    may: bool,
    may_key: bool,
}

fn series_row(estate: &Estate, series: &Series) -> SeriesRow {
    let newest = series.newest();
    SeriesRow {
        uuid: series.machine,
        name: series.name.clone(),
        machine: estate.machine_with_uuid(&series.machine).map(|m| m.id.0),
        points: series.points.len(),
        newest: newest.map_or_else(String::new, |p| time(p.taken)),
        how: newest.map_or("", |p| p.consistent.word()),
        stored: series.stored().to_string(),
    }
}

fn facts(store: &Store) -> Vec<(&'static str, String)> {
    let identity = ("Identity", store.uuid.to_string());
    match &store.lies {
        Lies::Bucket(bucket) => vec![
            ("Bucket", bucket.words()),
            ("Access key", bucket.access.clone()),
            ("Fingerprint", zastrugi_core::endpoint::short(&bucket.pin)),
            identity,
        ],
        Lies::Export(_) => vec![("Lies in", store.lies.words()), identity],
    }
}

async fn build(
    signed: &Signed,
    desk: &AtDesk,
    id: u64,
    query: &Query,
    shown: (Option<String>, String),
) -> Result<StorePage, Problem> {
    let view = desk.look();
    let estate = &view.estate;
    let store = estate
        .stores
        .get(&StoreId(id))
        .ok_or_else(|| Problem::not_found("This store"))?;
    let mut series: Vec<&Arc<Series>> = estate.series_in(store.id).collect();
    series.sort_by(|a, b| a.name.cmp(&b.name));
    let (window, range) = Window::of(&format!("/protect/stores/{id}"), query, series.len());
    let (glyph, state) = state(store);
    let site = estate
        .sites
        .get(&store.site)
        .map_or_else(String::new, |s| s.name.clone());
    Ok(StorePage {
        csrf: signed.csrf.clone(),
        id,
        name: store.name.clone(),
        sentence: match series.is_empty() {
            true => "Nothing is in it yet.".into(),
            false => format!("Recovery points: {}.", counted(&series)),
        },
        glyph,
        state,
        site,
        facts: facts(store),
        locks: store.lock.map_or_else(String::new, |span| span.to_string()),
        taken_out: store.taken_out.map_or_else(String::new, time),
        key: shown.0,
        wrong: shown.1,
        rows: series[range]
            .iter()
            .map(|s| series_row(estate, s))
            .collect(),
        window,
        query: query.0.with("", ""),
        events: lately(desk, &store.id.to_string()).await?,
        may: signed.may(Act::Storage),
        may_key: signed.may(Act::Settings) && store.key.is_some(),
    })
}

#[get("/protect/stores/<id>")]
pub(crate) async fn show(signed: Signed, desk: &AtDesk, id: u64, query: Query) -> Page {
    let body = build(&signed, desk, id, &query, Default::default()).await?;
    let title = body.name.clone();
    whole(&signed, desk, "protect", &title, &body)
}

#[get("/protect/stores/<id>/part")]
pub(crate) async fn page_part(signed: Signed, desk: &AtDesk, id: u64, query: Query) -> Page {
    part(
        &build(&signed, desk, id, &query, Default::default())
            .await?
            .as_body(),
    )
}

/// The key, in the answer and nowhere else: the answer is no redirect, since nothing keeps it.
#[post("/protect/stores/<id>/key", data = "<_fields>")]
pub(crate) async fn take_out(
    may: MaySettings,
    desk: &AtDesk,
    id: u64,
    _fields: Fields,
) -> Result<Page, (Status, Page)> {
    let query = Query(Fields::default());
    match desk.take_out_key(&may.0.viewer, StoreId(id)).await {
        Ok(key) => {
            let page = async {
                let body = build(&may.0, desk, id, &query, (Some(key), String::new())).await?;
                let title = body.name.clone();
                whole(&may.0, desk, "protect", &title, &body)
            };
            Ok(page.await)
        }
        Err(why) => {
            let page = async {
                let body = build(&may.0, desk, id, &query, (None, why.to_string())).await?;
                let title = body.name.clone();
                whole(&may.0, desk, "protect", &title, &body)
            };
            Err((Status::UnprocessableEntity, page.await))
        }
    }
}

#[derive(Template)]
#[template(path = "places/protect/forget_store.html")]
struct ForgetFields {
    id: u64,
    expected: String,
    typed: String,
}

pub(crate) fn forget(view: &View, fields: &Fields) -> Filled {
    let id = fields
        .ids::<StoreId>("ids")
        .first()
        .copied()
        .unwrap_or(StoreId(0));
    let name = view
        .estate
        .stores
        .get(&id)
        .map_or("a store", |s| s.name.as_str());
    Filled {
        title: format!("Forget {name}"),
        lead: "Nothing is written to it any more, and nothing is known here of what it has.".into(),
        run: format!("Run: forget {name}"),
        danger: true,
        back: format!("/protect/stores/{}", id.0),
        fields: render(&ForgetFields {
            id: id.0,
            expected: name.to_owned(),
            typed: fields.get("typed").to_owned(),
        }),
        ask: Proposal::Stores(Ask::Forget {
            store: id,
            typed: fields.get("typed").into(),
        }),
        wrong: vec![],
    }
}
