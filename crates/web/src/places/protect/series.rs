//! What a store has of one machine, also when that is gone: its recovery points, the newest first.

use super::prove::{Proven, proven};
use crate::frame::{AtDesk, Page, Problem, Query, Signed, Window, page as whole, part, time};
use askama::Template;
use rocket::get;
use uuid::Uuid;
use zastrugi_core::{
    estate::{PointAt, StoredPoint},
    ids::StoreId,
};

/// A recovery point in a list.
pub(super) struct PointRow {
    /// Where it can be looked at.
    pub(super) to: String,
    pub(super) at: String,
    pub(super) how: &'static str,
    pub(super) size: String,
    pub(super) read: String,
    pub(super) stored: String,
    pub(super) took: String,
    pub(super) proven: Proven,
}

/// Where a point can be looked at.
pub(super) fn path(at: PointAt) -> String {
    format!(
        "/protect/stores/{}/{}/{}",
        at.store.0, at.machine, at.session
    )
}

/// One of a store.
fn stored(store: StoreId, machine: Uuid, p: &StoredPoint) -> PointRow {
    let session = p.session;
    let at = PointAt {
        store,
        machine,
        session,
    };
    row(path(at), p)
}

pub(super) fn row(to: String, p: &StoredPoint) -> PointRow {
    PointRow {
        to,
        at: time(p.taken),
        how: p.consistent.word(),
        size: p.size.to_string(),
        read: p.read.to_string(),
        stored: p.stored.to_string(),
        took: p.took.to_string(),
        proven: proven(p.proof.as_deref()),
    }
}

#[derive(Template)]
#[template(path = "places/protect/series.html", blocks = ["body"])]
struct SeriesPage {
    store: (u64, String),
    uuid: Uuid,
    name: String,
    /// None: it is gone.
    machine: Option<u64>,
    sentence: String,
    /// How the newest is unlike those before it.
    unusual: String,
    rows: Vec<PointRow>,
    window: Window,
    query: String,
}

fn build(desk: &AtDesk, id: u64, machine: Uuid, query: &Query) -> Result<SeriesPage, Problem> {
    let view = desk.look();
    let estate = &view.estate;
    let store = estate.stores.get(&StoreId(id));
    let store = store.ok_or_else(|| Problem::not_found("This store"))?;
    let series = estate.backups_with(machine).find(|s| s.store == store.id);
    let series = series.ok_or_else(|| Problem::not_found("This machine, in this store,"))?;
    let base = format!("/protect/stores/{id}/{machine}");
    let (window, range) = Window::of(&base, query, series.points.len());
    let points: Vec<_> = series.points.iter().rev().collect();
    Ok(SeriesPage {
        store: (id, store.name.clone()),
        uuid: machine,
        name: series.name.clone(),
        machine: estate.machine_with_uuid(&machine).map(|m| m.id.0),
        sentence: match points.len() {
            1 => format!("One recovery point, {} there.", series.stored()),
            n => format!("{n} recovery points, {} there.", series.stored()),
        },
        unusual: estate
            .unusual(series)
            .map_or_else(String::new, |u| u.words()),
        rows: points[range]
            .iter()
            .map(|p| stored(store.id, machine, p))
            .collect(),
        window,
        query: query.0.with("", ""),
    })
}

#[get("/protect/stores/<id>/<machine>", rank = 2)]
pub(crate) fn show(signed: Signed, desk: &AtDesk, id: u64, machine: &str, query: Query) -> Page {
    let body = build(desk, id, identity(machine)?, &query)?;
    let title = format!("{} in {}", body.name, body.store.1);
    whole(&signed, desk, "protect", &title, &body)
}

#[get("/protect/stores/<id>/<machine>/part", rank = 1)]
pub(crate) fn page_part(
    _signed: Signed,
    desk: &AtDesk,
    id: u64,
    machine: &str,
    query: Query,
) -> Page {
    part(&build(desk, id, identity(machine)?, &query)?.as_body())
}

/// An identity as it stands in an address.
pub(super) fn identity(text: &str) -> Result<Uuid, Problem> {
    text.parse()
        .map_err(|_| Problem::not_found("This recovery point"))
}
