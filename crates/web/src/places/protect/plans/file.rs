//! A plan saved as a file, and read into the sheet again.

use super::keep;
use crate::frame::{AtDesk, Fields, Problem, Signed, consequences::Wrong, saved::Saved};
use rocket::get;
use zastrugi_core::{
    estate::{Estate, RecoveryPlan, Way},
    ids::PlanId,
    view::View,
};
use zastrugi_formats::plan::{self, Document, Stage};

fn document(estate: &Estate, plan: &RecoveryPlan) -> Document {
    let road = estate.road(plan.way);
    let stage = |s: &zastrugi_core::estate::Stage| Stage {
        name: s.name.clone(),
        machines: keep::names(estate, s),
        with_labels: s.who.as_ref().map_or_else(String::new, ToString::to_string),
        in_turn: s.in_turn,
        answers_within_seconds: s.limit.0 / 1000,
        then: s.then.iter().map(|t| keep::line(estate, t)).collect(),
    };
    Document {
        schema: plan::SCHEMA.into(),
        name: plan.name.clone(),
        pair: road.map_or_else(String::new, |r| r.pair.name.clone()),
        from: road.map_or_else(String::new, |r| r.from.site_name(estate)),
        stages: plan.stages.iter().map(stage).collect(),
        drill_networks: keep::drills(estate, plan).into_iter().collect(),
    }
}

#[get("/protect/plans/<id>/file")]
pub(crate) fn save(_signed: Signed, desk: &AtDesk, id: u64) -> Result<Saved, Problem> {
    let view = desk.look();
    let gone = || Problem::not_found("This plan");
    let found = view.estate.plans.get(&PlanId(id)).ok_or_else(gone)?;
    let text = plan::write(&document(&view.estate, found)).map_err(|_| gone())?;
    Ok(Saved::json(text, &format!("plan-{}", found.name)))
}

/// What such files look like, for whoever writes them.
#[get("/protect/plans/schema", rank = 1)]
pub(crate) fn schema(_signed: Signed) -> Saved {
    Saved::json(plan::SCHEMA_TEXT.to_owned(), "plan-1-schema")
}

/// The way that a file names.
fn way(view: &View, read: &Document) -> Result<Way, String> {
    let estate = &view.estate;
    let pair = estate.pair_named(&read.pair);
    let pair = pair.ok_or_else(|| format!("There is no pair {} here; choose one.", read.pair))?;
    let from = estate
        .site_named(&read.from)
        .filter(|s| pair.end(s.id).is_some());
    let from = from.ok_or_else(|| {
        format!(
            "{} is no site of {}; choose from where to where.",
            read.from, pair.name
        )
    })?;
    Ok(Way {
        pair: pair.id,
        from: from.id,
    })
}

/// The fields that a saved plan means; what stood in them is replaced.
pub(super) fn load(view: &View, mut fields: Fields) -> (Fields, Vec<Wrong>) {
    let read = match plan::read(fields.secret("file")) {
        Ok(read) => read,
        Err(words) => return (fields, vec![("file".into(), words)]),
    };
    let mut wrong = Vec::new();
    match way(view, &read) {
        Ok(way) => fields.set("way", Some(keep::key(way))),
        Err(words) => wrong.push(("way".to_owned(), words)),
    }
    let before: usize = fields.get("count").parse().unwrap_or(0);
    let count = read.stages.len().max(1);
    fields.set("name", Some(read.name));
    fields.set("count", Some(count.to_string()));
    for n in 0..before.clamp(count, 100) {
        let stage = read.stages.get(n).cloned().unwrap_or_default();
        let minutes = stage.answers_within_seconds.div_ceil(60);
        for (name, value) in [
            ("stage", stage.name),
            ("named", stage.machines.join(", ")),
            ("who", stage.with_labels),
            ("limit", minutes.to_string()),
            ("then", stage.then.join("\n")),
        ] {
            fields.set(&format!("{name}-{n}"), Some(value));
        }
        fields.set(
            &format!("in_turn-{n}"),
            stage.in_turn.then(|| "on".to_owned()),
        );
    }
    let lines = read
        .drill_networks
        .iter()
        .map(|(of, stands)| format!("{of} = {stands}"));
    fields.set("drills", Some(lines.collect::<Vec<_>>().join("\n")));
    fields.set("file", None);
    (fields, wrong)
}
