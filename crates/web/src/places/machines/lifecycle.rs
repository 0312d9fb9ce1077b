//! The sheets for deleting, bringing back and removing for good, and for taking a change back that waits.

use super::{back, chosen, what};
use crate::frame::{
    Fields,
    sheet::{Filled, render},
};
use askama::Template;
use zastrugi_core::rooms::{edits, machines};
use zastrugi_core::{rooms::Proposal, view::View};

#[derive(Template)]
#[template(path = "places/machines/lifecycle_chosen.html")]
struct Chosen {
    machines: Vec<(u64, String)>,
    expected: Option<String>,
    typed: String,
}

pub(crate) fn delete(view: &View, fields: &Fields) -> Filled {
    let (ids, named) = chosen(view, fields);
    Filled {
        title: format!("Delete {}", what(&named)),
        lead: "Deleted machines can be brought back for seven days.".into(),
        run: format!("Run: delete {}", what(&named)),
        danger: true,
        back: back(&named),
        fields: render(&Chosen {
            machines: named,
            expected: None,
            typed: String::new(),
        }),
        ask: Proposal::Machines(machines::Ask::Delete { machines: ids }),
        wrong: vec![],
    }
}

pub(crate) fn withdraw(view: &View, fields: &Fields) -> Filled {
    let (ids, named) = chosen(view, fields);
    Filled {
        title: format!("Withdraw changes of {}", what(&named)),
        lead: "What they run with is what they start with next.".into(),
        run: "Run: withdraw them".into(),
        danger: false,
        back: back(&named),
        fields: render(&Chosen {
            machines: named,
            expected: None,
            typed: String::new(),
        }),
        ask: Proposal::Edits(edits::Ask::Withdraw { machines: ids }),
        wrong: vec![],
    }
}

pub(crate) fn purge(view: &View, fields: &Fields) -> Filled {
    let (ids, named) = chosen(view, fields);
    let expected = match named.as_slice() {
        [(_, one)] => one.clone(),
        many => many.len().to_string(),
    };
    let typed = fields.get("typed").to_owned();
    Filled {
        title: format!("Remove {} for good", what(&named)),
        lead: "There is no way back from this.".into(),
        run: format!("Run: remove {} for good", what(&named)),
        danger: true,
        back: back(&named),
        fields: render(&Chosen {
            machines: named,
            expected: Some(expected),
            typed: typed.clone(),
        }),
        ask: Proposal::Machines(machines::Ask::Purge {
            machines: ids,
            typed: typed.into(),
        }),
        wrong: vec![],
    }
}
