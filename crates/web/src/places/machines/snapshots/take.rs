//! The sheet that takes a snapshot, of one machine or of many.

use super::super::{back, chosen, what};
use crate::frame::{
    Fields,
    sheet::{Filled, render},
};
use askama::Template;
use zastrugi_core::{
    rooms::{
        Proposal,
        snapshots::{Ask, Quiet, Take},
    },
    view::View,
};

/// All at one instant.
const TOGETHER: &str = "together";

#[derive(Template)]
#[template(path = "places/machines/snapshots/take.html")]
struct TakeFields {
    machines: Vec<(u64, String)>,
    name: String,
    note: String,
    quiet: String,
    memory: bool,
    ends: String,
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let (ids, named) = chosen(view, fields);
    let mut wrong = Vec::new();
    let name = fields.or("name", "before a change");
    let note = fields.get("note").to_owned();
    let quiet = fields.or("quiet", "possible");
    let memory = fields.ticked("memory", false);
    let ends = match fields.has("ends") {
        true => super::days(fields, "ends", &mut wrong),
        false => Some(zastrugi_core::moment::Span::days(7)),
    };
    let ask = Take {
        machines: ids,
        name: (&name).into(),
        note: (&note).into(),
        quiet: match quiet.as_str() {
            "no" => Quiet::No,
            "only" | TOGETHER => Quiet::Only,
            _ => Quiet::IfPossible,
        },
        memory,
        together: quiet == TOGETHER && named.len() > 1,
        ends,
    };
    Filled {
        title: format!("Take a snapshot of {}", what(&named)),
        lead: "A state of its disks that it can go back to. It lies on the same volume: it is no backup.".into(),
        run: format!("Run: take a snapshot of {}", what(&named)),
        danger: false,
        back: back(&named),
        fields: render(&TakeFields {
            machines: named.clone(),
            name,
            note,
            quiet,
            memory,
            ends: fields.or("ends", "7"),
        }),
        ask: Proposal::Snapshots(Ask::Take(ask)),
        wrong,
    }
}
