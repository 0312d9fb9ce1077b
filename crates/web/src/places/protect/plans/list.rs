//! Plans in the list: how each would go now, and how it went last.

use crate::frame::time;
use zastrugi_core::{
    crossing::Crossing,
    estate::{Estate, Passage, PassageKind},
    ids::PlanId,
};
use zastrugi_engine::Desk;

pub(in super::super) struct PlanRow {
    pub(in super::super) id: u64,
    pub(in super::super) name: String,
    pub(in super::super) way: String,
    pub(in super::super) machines: usize,
    pub(in super::super) glyph: &'static str,
    pub(in super::super) state: String,
    /// What stops it first.
    pub(in super::super) why: String,
    pub(in super::super) up_in: String,
    pub(in super::super) drilled: String,
}

/// How it would go now, with its shape.
pub(super) fn state(crossing: &Crossing) -> (&'static str, String) {
    let first = crossing.findings.iter().find(|f| f.stops());
    match (first, crossing.minds()) {
        (Some(_), _) => ("down", "would not work now".into()),
        (None, 0) => ("steady", "would work now".into()),
        (None, 1) => (
            "mind",
            "would work now, with one thing to think about".into(),
        ),
        (None, n) => (
            "mind",
            format!("would work now, with {n} things to think about"),
        ),
    }
}

/// When it was last drilled, and what came of that.
pub(super) fn drilled(estate: &Estate, plan: PlanId, edition: u32) -> String {
    let all = estate.passages_of(plan);
    let over = |p: &&&std::sync::Arc<Passage>| p.kind == PassageKind::Drill && p.ended.is_some();
    let Some(last) = all.iter().find(over) else {
        return "never".into();
    };
    let (came, of) = last.came();
    let changed = match last.edition == edition {
        true => "",
        false => "; changed since",
    };
    let at = time(last.ended.unwrap_or(last.began));
    format!("{at}: {came} of {of} came up{changed}")
}

/// Reports of plans that are not there any more, newest first: where each is, of what, when.
pub(in super::super) fn left(estate: &Estate) -> Vec<(u64, String, String)> {
    let gone = estate.passages.values();
    let gone = gone.filter(|p| !estate.plans.contains_key(&p.plan));
    let mut all: Vec<_> = gone.collect();
    all.sort_by_key(|p| std::cmp::Reverse(p.began));
    let row = |p: &std::sync::Arc<Passage>| {
        let what = format!("{} of {}", p.kind.word(), p.name);
        (p.id.0, what, time(p.began))
    };
    all.into_iter().take(LEFT).map(row).collect()
}

/// So many of those are shown.
const LEFT: usize = 20;

pub(in super::super) fn rows(desk: &Desk) -> Vec<PlanRow> {
    let estate = desk.look().estate;
    let row = |id: &PlanId| {
        let (plan, crossing) = desk.crossing(*id)?;
        let (glyph, state) = state(&crossing);
        let mut stops = crossing.findings.iter().filter(|f| f.stops());
        Some(PlanRow {
            id: plan.id.0,
            name: plan.name.clone(),
            way: estate.way_name(plan.way),
            machines: crossing.machines().count(),
            glyph,
            state,
            why: stops.next().map_or_else(String::new, |f| f.text.clone()),
            up_in: match crossing.is_stopped() {
                true => String::new(),
                false => crossing.time().to_string(),
            },
            drilled: drilled(&estate, plan.id, plan.edition),
        })
    };
    let mut rows: Vec<PlanRow> = estate.plans.keys().filter_map(row).collect();
    rows.sort_by(|a, b| a.name.cmp(&b.name));
    rows
}
