//! The sheet by which a plan is drilled.

use crate::frame::{
    Fields,
    sheet::{Filled, render},
};
use askama::Template;
use zastrugi_core::{
    ids::PlanId,
    rooms::{
        Proposal,
        drilling::{Ask, Drill},
    },
    view::View,
};

#[derive(Template)]
#[template(path = "places/protect/plans/drill.html")]
struct DrillFields {
    id: u64,
    name: String,
    looked_at: bool,
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let id = fields.get("id").parse().map_or(PlanId(0), PlanId);
    let plan = view.estate.plans.get(&id);
    let name = plan.map_or_else(|| "a plan".to_owned(), |p| p.name.clone());
    let looked_at = fields.ticked("looked_at", false);
    Filled {
        title: format!("Drill {name}"),
        lead: "Copies of what the other site has are booted there beside production, stage by stage, in networks that nobody else hears. They are asked, measured and removed for good; the report stays.".into(),
        run: "Run: drill it".into(),
        danger: false,
        back: format!("/protect/plans/{}", id.0),
        fields: render(&DrillFields {
            id: id.0,
            name,
            looked_at,
        }),
        ask: Proposal::Drilling(Ask::Drill(Drill {
            plan: id,
            looked_at,
        })),
        wrong: vec![],
    }
}
