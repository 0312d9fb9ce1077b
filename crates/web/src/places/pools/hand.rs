//! The sheets that hand machines out and take them back.

use crate::frame::{
    Fields,
    fields::whole,
    sheet::{Filled, render},
};
use askama::Template;
use zastrugi_core::{
    ids::{MachineId, SparePoolId},
    rooms::{Proposal, spares::Ask},
    spares::Stand,
    view::View,
};

#[derive(Template)]
#[template(path = "places/pools/hand.html")]
struct OutFields {
    id: u64,
    to: String,
    count: String,
}

pub(crate) fn out(view: &View, fields: &Fields) -> Filled {
    let id = SparePoolId(fields.get("id").parse().unwrap_or(0));
    let pool = view.estate.spare_pools.get(&id);
    let name = pool.map_or_else(|| id.to_string(), |p| p.name.clone());
    let ready = pool.map_or(0, |p| Stand::of(&view.estate, p).ready.len());
    let mut wrong = vec![];
    let typed = fields.or("count", "1");
    let count = whole(&typed).unwrap_or_else(|words| {
        wrong.push(("count".to_owned(), words));
        1
    });
    let to = fields.get("to").to_owned();
    Filled {
        title: format!("Hand out a machine of {name}"),
        lead: format!("{ready} are ready; they run already."),
        run: "Run: hand it out".into(),
        danger: false,
        back: format!("/pools/{}", id.0),
        fields: render(&OutFields {
            id: id.0,
            to: to.clone(),
            count: typed,
        }),
        ask: Proposal::Spares(Ask::HandOut {
            pool: id,
            count,
            to: to.as_str().into(),
        }),
        wrong,
    }
}

#[derive(Template)]
#[template(
    source = r#"{% import "frame/forms.html" as forms %}{% call forms::machines(machines) %}{% endcall %}"#,
    ext = "html"
)]
struct BackFields {
    machines: Vec<(u64, String)>,
}

pub(crate) fn back(view: &View, fields: &Fields) -> Filled {
    let machines: Vec<MachineId> = fields.ids("ids");
    let estate = &view.estate;
    let named = machines.iter().map(|id| {
        (
            id.0,
            estate
                .machines
                .get(id)
                .map_or_else(|| id.to_string(), |m| m.name.clone()),
        )
    });
    let pool = machines.first().and_then(|id| {
        estate
            .machines
            .get(id)?
            .of_pool
            .as_ref()
            .map(|of| of.pool.0)
    });
    Filled {
        title: "Give machines back".into(),
        lead: "They are thrown away, and new ones are made in their place.".into(),
        run: "Run: give them back".into(),
        danger: true,
        back: pool.map_or_else(|| "/pools".into(), |p| format!("/pools/{p}")),
        fields: render(&BackFields {
            machines: named.collect(),
        }),
        ask: Proposal::Spares(Ask::GiveBack { machines }),
        wrong: vec![],
    }
}
