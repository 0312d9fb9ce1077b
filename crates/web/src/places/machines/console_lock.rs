//! The sheet that gives consoles a password, or takes it.

use super::{back, chosen, what};
use crate::frame::{
    Fields,
    sheet::{Filled, render},
};
use askama::Template;
use zastrugi_core::{
    endpoint::Password,
    rooms::{Proposal, console_locks::Ask},
    view::View,
};

#[derive(Template)]
#[template(path = "places/machines/console_lock.html")]
struct LockFields {
    machines: Vec<(u64, String)>,
    locked: bool,
    open: bool,
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let (ids, named) = chosen(view, fields);
    let locked = ids
        .iter()
        .filter_map(|id| view.estate.machines.get(id))
        .any(|m| m.console_lock.is_some());
    let open = fields.ticked("open", false);
    let password = match fields.secret("password") {
        "" => Password::Missing,
        _ => Password::Typed,
    };
    Filled {
        title: format!("Password of the console of {}", what(&named)),
        lead: "Whoever opens its console or its screen must know it.".into(),
        run: if open { "Run: take it" } else { "Run: set it" }.into(),
        danger: false,
        back: back(&named),
        fields: render(&LockFields {
            machines: named,
            locked,
            open,
        }),
        ask: Proposal::ConsoleLocks(Ask::Lock {
            machines: ids,
            password,
            open,
        }),
        wrong: vec![],
    }
}
