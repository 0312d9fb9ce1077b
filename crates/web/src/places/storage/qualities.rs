//! The sheet that states what a volume offers.

use super::change::chosen;
use crate::frame::{
    Fields,
    sheet::{Filled, render},
};
use askama::Template;
use std::collections::BTreeSet;
use zastrugi_core::{rooms::qualities::Ask, text::Line, view::View};

#[derive(Template)]
#[template(path = "places/storage/qualities.html")]
struct Stated {
    id: u64,
    qualities: String,
    /// What is stated of other volumes: the same word means the same.
    known: Vec<String>,
}

/// Words with blanks or commas between them.
pub(crate) fn words(typed: &str) -> BTreeSet<Line> {
    let parts = typed.split(|c: char| c == ',' || c.is_whitespace());
    parts
        .filter(|w| !w.is_empty())
        .map(|w| w.to_lowercase().into())
        .collect()
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let (id, name) = chosen(view, fields);
    let was = view.estate.volumes.get(&id).map(|v| v.qualities.clone());
    let was: Vec<String> = was
        .unwrap_or_default()
        .into_iter()
        .map(String::from)
        .collect();
    let typed = fields.or("qualities", &was.join(", "));
    let all = view.estate.volumes.values().flat_map(|v| &v.qualities);
    let known: BTreeSet<Line> = all.cloned().collect();
    Filled {
        title: format!("State what {name} offers"),
        lead: "Machines ask for what they need; volumes that offer it are chosen from.".into(),
        run: "Run: state it".into(),
        danger: false,
        back: format!("/storage/volumes/{}", id.0),
        fields: render(&Stated {
            id: id.0,
            qualities: typed.clone(),
            known: known.into_iter().map(String::from).collect(),
        }),
        ask: Ask::State {
            volume: id,
            qualities: words(&typed),
        }
        .into(),
        wrong: vec![],
    }
}
