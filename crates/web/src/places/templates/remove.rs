//! The sheet that removes versions for good.

use crate::frame::{
    Fields,
    sheet::{Filled, render},
};
use askama::Template;
use zastrugi_core::{
    ids::TemplateId,
    rooms::{
        Proposal,
        templates::{Ask, Remove},
    },
    view::View,
};

#[derive(Template)]
#[template(path = "places/templates/remove.html")]
struct RemoveFields {
    id: u64,
    name: String,
    /// Number, words, whether chosen.
    versions: Vec<(u32, String, bool)>,
    typed: String,
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let id = TemplateId(fields.get("id").parse().unwrap_or(0));
    let template = view.estate.templates.get(&id);
    let name = template.map_or_else(|| id.to_string(), |t| t.name.clone());
    let chosen: Vec<u32> = fields.ids("versions");
    let all = template.map(|t| t.versions.as_slice()).unwrap_or_default();
    let row = |v: &zastrugi_core::estate::Version| {
        let words = format!("{}, from {}, {}", v.number, v.from, v.takes);
        (v.number, words, chosen.contains(&v.number))
    };
    let shown = RemoveFields {
        id: id.0,
        name: name.clone(),
        versions: all.iter().rev().map(row).collect(),
        typed: fields.get("typed").into(),
    };
    Filled {
        title: format!("Remove versions of {name}"),
        lead: "Machines that were copied in full are not touched.".into(),
        run: "Run: remove them".into(),
        danger: true,
        back: format!("/templates/{}", id.0),
        fields: render(&shown),
        ask: Proposal::Templates(Ask::Remove(Remove {
            template: id,
            versions: chosen,
            typed: fields.get("typed").into(),
        })),
        wrong: vec![],
    }
}
