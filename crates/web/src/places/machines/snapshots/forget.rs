//! The sheet that deletes snapshots: chosen ones, those of a branch, or all that are older.

use super::super::{back, chosen, what};
use crate::frame::{
    Fields,
    sheet::{Filled, render},
};
use askama::Template;
use uuid::Uuid;
use zastrugi_core::{
    moment::Span,
    rooms::{
        Proposal,
        snapshots::{Ask, Forget, Which},
    },
    view::View,
};

#[derive(Template)]
#[template(path = "places/machines/snapshots/forget.html")]
struct ForgetFields {
    machines: Vec<(u64, String)>,
    /// Of the one machine, with whether each is chosen.
    all: Vec<(Uuid, String, bool)>,
    which: String,
    age: String,
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let (ids, named) = chosen(view, fields);
    let mut wrong = Vec::new();
    let one = match ids.as_slice() {
        [one] => view.estate.machines.get(one),
        _ => None,
    };
    let these: Vec<Uuid> = fields.ids("snapshots");
    let usual = if one.is_some() { "these" } else { "older" };
    let which = fields.or("which", usual);
    let age = match fields.has("age") {
        true => super::days(fields, "age", &mut wrong),
        false => Some(Span::days(30)),
    };
    let ask = Forget {
        machines: ids,
        which: match which.as_str() {
            "branch" => Which::Branch(these.clone()),
            "older" => Which::OlderThan(age.unwrap_or_default()),
            "all" => Which::All,
            _ => Which::These(these.clone()),
        },
    };
    let listed = one.map(|m| m.snapshots.all.as_slice()).unwrap_or_default();
    Filled {
        title: format!("Delete snapshots of {}", what(&named)),
        lead: "The machines keep what they have now. What it takes to delete them stands at the right.".into(),
        run: "Run: delete them".into(),
        danger: true,
        back: back(&named),
        fields: render(&ForgetFields {
            machines: named.clone(),
            all: listed
                .iter()
                .rev()
                .map(|s| (s.uuid, s.name.clone(), these.contains(&s.uuid)))
                .collect(),
            which,
            age: fields.or("age", "30"),
        }),
        ask: Proposal::Snapshots(Ask::Forget(ask)),
        wrong,
    }
}
