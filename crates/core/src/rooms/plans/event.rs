//! What happens to recovery plans.

use crate::{
    estate::{Estate, Pen, RecoveryPlan, Way},
    ids::{PlanId, SiteId},
    moment::Moment,
    road::{Entry, Tale},
};

#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    Kept(Box<RecoveryPlan>),
    /// It leads from this site now, over the same pair.
    Turned { plan: PlanId, from: SiteId, at: Moment },
    Removed { plan: PlanId, name: String },
}

impl Tale for Event {
    fn absorb(&self, pen: &mut Pen<'_>) {
        match self {
            Event::Kept(plan) => match pen.estate().plans.contains_key(&plan.id) {
                true => pen.plan(plan.id, |p| p.clone_from(plan)),
                false => pen.add_plan(plan),
            },
            Event::Turned { plan, from, at } => pen.plan(*plan, |p| {
                if p.way.from != *from {
                    p.way.from = *from;
                    p.edition = p.edition.saturating_add(1);
                    p.changed = *at;
                }
            }),
            Event::Removed { plan, .. } => pen.drop_plan(*plan),
        }
    }

    fn tell(&self, estate: &Estate) -> Option<Entry> {
        let (id, text) = match self {
            Event::Kept(p) => {
                let stages = match p.stages.len() {
                    1 => "one stage".to_owned(),
                    n => format!("{n} stages"),
                };
                let text = format!("Recovery plan {} has {stages} over {} (edition {})", p.name, estate.way_name(p.way), p.edition);
                (p.id, text)
            }
            Event::Turned { plan, from, .. } => {
                let plan = estate.plans.get(plan)?;
                let way = estate.way_name(Way { from: *from, ..plan.way });
                (plan.id, format!("Recovery plan {} leads over {way} now", plan.name))
            }
            Event::Removed { plan, name } => (*plan, format!("Recovery plan {name} was removed; reports of it stay")),
        };
        Some(Entry::new("machine", text, vec![id.to_string()]))
    }

    fn is_sighting(&self) -> bool {
        false
    }
}
