//! The sheet by which a plan is carried out while both sites are there, and the one that turns a plan round.

use crate::frame::{
    AtDesk, Fields,
    sheet::{Filled, render},
};
use askama::Template;
use futures::future::BoxFuture;
use zastrugi_core::{
    estate::Estate,
    ids::PlanId,
    moment::Span,
    pairing,
    rooms::{
        Plan, Proposal, Step,
        handover::{self, Ask, Shift},
        machines::AfterGrace,
        passages, plans,
    },
    view::View,
};

#[derive(Template)]
#[template(path = "places/protect/plans/shift.html")]
struct ShiftFields {
    id: u64,
    name: String,
    grace: String,
    after: String,
    typed: String,
}

fn chosen(view: &View, fields: &Fields) -> (PlanId, String) {
    let id = fields.get("id").parse().map_or(PlanId(0), PlanId);
    let plan = view.estate.plans.get(&id);
    (
        id,
        plan.map_or_else(|| "a plan".to_owned(), |p| p.name.clone()),
    )
}

/// Where a plan leads.
fn there(estate: &Estate, id: PlanId) -> String {
    let plan = estate.plans.get(&id);
    let road = plan.and_then(|p| estate.road(p.way));
    road.map_or_else(|| "the other site".into(), |r| r.to.site_name(estate))
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let (id, name) = chosen(view, fields);
    let mut wrong = Vec::new();
    let grace = fields.or("grace", "120");
    let read = grace
        .trim()
        .parse()
        .ok()
        .filter(|s| (10..=7200).contains(s));
    if read.is_none() {
        wrong.push((
            "grace".to_owned(),
            "Between 10 and 7,200 seconds.".to_owned(),
        ));
    }
    let after = fields.or("after", "leave");
    let typed = fields.get("typed").to_owned();
    let there = there(&view.estate, id);
    Filled {
        title: format!("Move {name} to {there}"),
        lead: format!(
            "Its machines are brought up to date while they run, then stopped, brought over to the last byte, compared, and powered on at {there}, stage by stage. Nothing is lost; what is left of them here follows them from then on."
        ),
        run: format!("Run: move it to {there}"),
        danger: true,
        back: format!("/protect/plans/{}", id.0),
        ask: Proposal::Handover(Ask::Shift(Shift {
            plan: id,
            grace: Span::secs(read.unwrap_or(120)),
            then: match after.as_str() {
                "off" => AfterGrace::PowerOff,
                _ => AfterGrace::LeaveOn,
            },
            typed: typed.as_str().into(),
        })),
        fields: render(&ShiftFields {
            id: id.0,
            name,
            grace,
            after,
            typed,
        }),
        wrong,
    }
}

/// Whether the pair carries is tried; at first anew, where it did not: somebody has mended it, and waits.
pub(crate) fn prepare<'a>(desk: &'a AtDesk, fields: &'a Fields) -> BoxFuture<'a, ()> {
    Box::pin(async move {
        let view = desk.look();
        let (id, _) = chosen(&view, fields);
        let plan = view.estate.plans.get(&id);
        let Some(road) = plan.and_then(|p| view.estate.road(p.way)) else {
            return;
        };
        let probes = pairing::probes(&view.estate, &road.pair.ends);
        let trouble = pairing::trouble(&view, road.pair, desk.now());
        match trouble.is_some() && fields.get("sent").is_empty() {
            true => desk.try_ends_anew(probes).await,
            false => desk.try_ends(probes).await,
        }
    })
}

/// To how far it is.
pub(crate) fn after(plan: &Plan) -> Option<String> {
    plan.steps.iter().find_map(|s| match &s.step {
        Step::Handover(handover::Step::Passage(passages::Step::Open { of, .. })) => {
            Some(format!("/protect/passages/{}", of.passage.0))
        }
        _ => None,
    })
}

#[derive(Template)]
#[template(path = "places/protect/plans/of_plan.html")]
struct TurnFields {
    id: u64,
    name: String,
}

pub(crate) fn turn(view: &View, fields: &Fields) -> Filled {
    let (id, name) = chosen(view, fields);
    Filled {
        title: format!("Turn {name} round"),
        lead: "The same stages lead the other way, for machines that are at the other site. What is missing for that is said here, and stands with the plan.".into(),
        run: "Run: turn it round".into(),
        danger: false,
        back: format!("/protect/plans/{}", id.0),
        fields: render(&TurnFields { id: id.0, name }),
        ask: Proposal::Plans(plans::Ask::Turn { plan: id }),
        wrong: vec![],
    }
}
