//! All pools.

use super::state;
use crate::frame::{AtDesk, Page, Signed, page as whole, part};
use askama::Template;
use rocket::get;
use zastrugi_core::{permits::Act, spares::Stand};

struct Row {
    id: u64,
    name: String,
    glyph: &'static str,
    word: String,
    held: usize,
    most: u32,
    template: String,
    cluster: String,
}

#[derive(Template)]
#[template(path = "places/pools/list.html", blocks = ["body"])]
struct List {
    rows: Vec<Row>,
    templates: bool,
    may: bool,
}

fn build(signed: &Signed, desk: &AtDesk) -> List {
    let view = desk.look();
    let estate = &view.estate;
    let row = |p: &std::sync::Arc<zastrugi_core::estate::SparePool>| {
        let stand = Stand::of(estate, p);
        let (glyph, word) = state(estate, p, &stand);
        Row {
            id: p.id.0,
            name: p.name.clone(),
            glyph,
            word,
            held: stand.held.len(),
            most: p.most,
            template: estate
                .templates
                .get(&p.template)
                .map_or_else(|| "a template that is gone".into(), |t| t.name.clone()),
            cluster: estate
                .clusters
                .get(&p.cluster)
                .map_or_else(String::new, |c| c.name.clone()),
        }
    };
    let mut rows: Vec<Row> = estate.spare_pools.values().map(row).collect();
    rows.sort_by(|a, b| a.name.cmp(&b.name));
    List {
        rows,
        templates: !estate.templates.is_empty(),
        may: signed.may(Act::Machines),
    }
}

#[get("/pools")]
pub(crate) fn show(signed: Signed, desk: &AtDesk) -> Page {
    let body = build(&signed, desk);
    whole(&signed, desk, "machines", "Pools", &body)
}

#[get("/pools/part")]
pub(crate) fn list_part(signed: Signed, desk: &AtDesk) -> Page {
    part(&build(&signed, desk).as_body())
}
