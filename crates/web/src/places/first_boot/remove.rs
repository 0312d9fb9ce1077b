//! The sheet that removes a document with all its versions.

use crate::frame::{
    Fields,
    sheet::{Filled, render},
};
use askama::Template;
use zastrugi_core::{
    ids::FirstBootId,
    rooms::{Proposal, first_boot::Ask},
    view::View,
};

#[derive(Template)]
#[template(
    source = r#"<input type="hidden" name="id" value="{{ id }}"><fieldset><legend class="legend">Document</legend><div class="field" id="f-document" data-field="document"><p><span class="chip">{{ name }}</span></p><span class="wrong" role="alert"></span></div></fieldset>"#,
    ext = "html"
)]
struct RemoveFields {
    id: u64,
    name: String,
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let id = FirstBootId(fields.get("id").parse().unwrap_or(0));
    let document = view.estate.first_boots.get(&id);
    let name = document.map_or_else(|| id.to_string(), |d| d.name.clone());
    Filled {
        title: format!("Remove {name}"),
        lead: "Guests keep what they were told.".into(),
        run: "Run: remove it".into(),
        danger: true,
        back: format!("/first-boot/{}", id.0),
        fields: render(&RemoveFields { id: id.0, name }),
        ask: Proposal::FirstBoot(Ask::Remove { document: id }),
        wrong: vec![],
    }
}
