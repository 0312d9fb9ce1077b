//! One template: its versions, what each was made from, what was removed, and who lies on it.

use super::sealed_word;
use crate::{
    frame::{AtDesk, Page, Problem, Signed, page as whole, part, time},
    places::logbook::lately::{Line, lately},
};
use askama::Template as Draw;
use rocket::get;
use zastrugi_core::{
    estate::{Parent, Sealed, Template, Version},
    ids::TemplateId,
    permits::Act,
    runs::Object,
    view::View,
};

/// More machines are counted.
const SHOWN: usize = 12;

struct VersionRow {
    number: u32,
    glyph: &'static str,
    word: &'static str,
    made: String,
    from: String,
    disks: String,
    takes: String,
    volume: (u64, String),
    sealed: String,
    note: String,
    lie: Vec<(u64, String)>,
    more: usize,
}

#[derive(Draw)]
#[template(path = "places/templates/page.html", blocks = ["body"])]
struct TemplatePage {
    id: u64,
    name: String,
    lead: String,
    versions: Vec<VersionRow>,
    newest: Option<u32>,
    events: Vec<Line>,
    may_machines: bool,
    may_purge: bool,
}

fn sealed(version: &Version) -> String {
    match &version.sealed {
        Sealed::Yes(removed) => format!("sealed: {} removed", removed.join(", ")),
        Sealed::No => "not sealed".into(),
        Sealed::Unable(why) => format!("not sealed: {why}"),
    }
}

fn row(view: &View, template: &Template, v: &Version) -> VersionRow {
    let parent = Parent {
        template: template.id,
        version: v.number,
    };
    let lie: Vec<_> = view
        .estate
        .dependents(parent)
        .map(|m| (m.id.0, m.name.clone()))
        .collect();
    let volume = view.estate.volumes.get(&v.volume);
    let made = view.runs.holds(Object::Template(template.id));
    let (glyph, word) = match (v.ready, made) {
        (true, _) => ("steady", sealed_word(v)),
        (false, true) => ("busy", "being made"),
        (false, false) => ("unknown", "given up; it may be there"),
    };
    VersionRow {
        number: v.number,
        glyph,
        word,
        made: time(v.made),
        from: v.from.clone(),
        disks: v
            .disks
            .iter()
            .map(|d| d.size.to_string())
            .collect::<Vec<_>>()
            .join(", "),
        takes: v.takes.to_string(),
        volume: (
            v.volume.0,
            volume.map_or_else(String::new, |v| v.name.clone()),
        ),
        sealed: if v.ready {
            sealed(v)
        } else {
            "on its way".into()
        },
        note: v.note.clone(),
        more: lie.len().saturating_sub(SHOWN),
        lie: lie.into_iter().take(SHOWN).collect(),
    }
}

async fn build(signed: &Signed, desk: &AtDesk, id: u64) -> Result<TemplatePage, Problem> {
    let view = desk.look();
    let template = view.estate.templates.get(&TemplateId(id));
    let template = template.ok_or_else(|| Problem::not_found("This template"))?;
    let newest = template.newest();
    let lead = match newest {
        None => "its first version is being made".to_owned(),
        Some(v) => format!(
            "version {} is what machines are made from, unless another is chosen",
            v.number
        ),
    };
    Ok(TemplatePage {
        id,
        name: template.name.clone(),
        lead,
        versions: template
            .versions
            .iter()
            .rev()
            .map(|v| row(&view, template, v))
            .collect(),
        newest: newest.map(|v| v.number),
        events: lately(desk, &template.id.to_string()).await?,
        may_machines: signed.may(Act::Machines),
        may_purge: signed.may(Act::Purge),
    })
}

#[get("/templates/<id>")]
pub(crate) async fn show(signed: Signed, desk: &AtDesk, id: u64) -> Page {
    let body = build(&signed, desk, id).await?;
    let title = body.name.clone();
    whole(&signed, desk, "storage", &title, &body)
}
#[get("/templates/<id>/part")]
pub(crate) async fn page_part(signed: Signed, desk: &AtDesk, id: u64) -> Page {
    part(&build(&signed, desk, id).await?.as_body())
}
