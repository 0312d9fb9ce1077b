//! The sheet by which somebody answers what a plan waits for.

use crate::frame::{
    Fields,
    sheet::{Filled, render},
};
use askama::Template;
use zastrugi_core::{
    ids::PassageId,
    rooms::{Plan, Proposal, passages::Ask},
    view::View,
};

#[derive(Template)]
#[template(path = "places/protect/plans/answer.html")]
struct AnswerFields {
    of: u64,
    mark: u64,
    words: String,
    good: bool,
    note: String,
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let of = fields.get("of").parse().map_or(PassageId(0), PassageId);
    let mark: u64 = fields.get("mark").parse().unwrap_or(0);
    let passage = view.estate.passages.get(&of);
    let mut all = passage
        .into_iter()
        .flat_map(|p| &p.stages)
        .flat_map(|s| &s.then);
    let words = all
        .find(|b| b.mark == mark && b.asks)
        .map(|b| b.words.clone());
    let words = words.unwrap_or_else(|| "nothing".into());
    let good = fields.or("good", "yes") == "yes";
    let note = fields.or("note", "");
    Filled {
        title: passage.map_or_else(|| "Answer".into(), |p| format!("Answer for {}", p.name)),
        lead: "Who said so, and when, stays in the report and in the Logbook.".into(),
        run: if good {
            "Run: it is so"
        } else {
            "Run: it is not so"
        }
        .into(),
        danger: !good,
        back: format!("/protect/passages/{}", of.0),
        fields: render(&AnswerFields {
            of: of.0,
            mark,
            words,
            good,
            note: note.clone(),
        }),
        ask: Proposal::Passages(Ask::Answer {
            passage: of,
            mark,
            good,
            note: note.as_str().into(),
        }),
        wrong: vec![],
    }
}

/// Back to how far it is.
pub(crate) fn after(plan: &Plan) -> Option<String> {
    match &plan.ask {
        Proposal::Passages(Ask::Answer { passage, .. }) => {
            Some(format!("/protect/passages/{}", passage.0))
        }
        _ => None,
    }
}
