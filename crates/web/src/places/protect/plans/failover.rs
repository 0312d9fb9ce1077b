//! The sheet by which a plan is carried out when its site is gone, and the one that takes up again what was superseded.

use crate::frame::{
    Fields,
    sheet::{Filled, render},
};
use askama::Template;
use zastrugi_core::{
    estate::Estate,
    ids::{MachineId, PairId, PlanId},
    rooms::{
        Proposal,
        handover::{Ask, Failover, Which},
    },
    runs::Object,
    view::View,
};

#[derive(Template)]
#[template(path = "places/protect/plans/failover.html")]
struct FailoverFields {
    id: u64,
    name: String,
    which: String,
    from: String,
    typed: String,
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let id = fields.get("id").parse().map_or(PlanId(0), PlanId);
    let estate = &view.estate;
    let plan = estate.plans.get(&id);
    let name = plan.map_or_else(|| "a plan".to_owned(), |p| p.name.clone());
    let road = plan.and_then(|p| estate.road(p.way));
    let ends = road.map(|r| (r.from.site_name(estate), r.to.site_name(estate)));
    let (from, to) = ends.unwrap_or_else(|| ("its site".into(), "the other site".into()));
    let which = fields.or("which", "newest");
    let typed = fields.get("typed").to_owned();
    Filled {
        title: format!("Fail {name} over to {to}"),
        lead: format!(
            "{from} is gone, or you say so: what {to} has of each machine goes on there, stage by stage. What was written after that is lost. Originals that answer are powered off first; those that answer later are powered off then and kept aside. Nothing that was superseded ever starts again by itself."
        ),
        run: format!("Run: {from} is gone, fail over to {to}"),
        danger: true,
        back: format!("/protect/plans/{}", id.0),
        ask: Proposal::Handover(Ask::Failover(Failover {
            plan: id,
            which: match which.as_str() {
                "proven" => Which::Proven,
                _ => Which::Newest,
            },
            typed: typed.as_str().into(),
        })),
        fields: render(&FailoverFields {
            id: id.0,
            name,
            which,
            from,
            typed,
        }),
        wrong: vec![],
    }
}

/// What is kept aside of a pair.
pub(crate) fn aside(estate: &Estate, pair: PairId) -> Vec<(MachineId, String)> {
    let all = estate.replicas_over(pair);
    let aside = all.filter(|m| m.replica.as_ref().is_some_and(|r| r.astray));
    let mut all: Vec<_> = aside.map(|m| (m.id, m.name.clone())).collect();
    all.sort_by(|a, b| a.1.cmp(&b.1));
    all
}

#[derive(Template)]
#[template(path = "places/protect/plans/take_up.html")]
struct TakeUpFields {
    id: u64,
    all: Vec<(u64, String, bool)>,
}

pub(crate) fn take_up(view: &View, fields: &Fields) -> Filled {
    let pair = fields.get("id").parse().map_or(PairId(0), PairId);
    let all = aside(&view.estate, pair);
    let chosen = |id: &MachineId| fields.ticked(&format!("m{}", id.0), true);
    let machines: Vec<MachineId> = all.iter().map(|(id, _)| *id).filter(chosen).collect();
    let name = Object::Pair(pair).name(&view.estate);
    Filled {
        title: format!("Take up what was superseded over {name}"),
        lead: "What is left of machines at the site that came back was kept aside as it was. Taken up, it follows again what the other site took over; what it holds stays as a point of it. Whatever is left out stays aside; it can be deleted on its own page.".into(),
        run: "Run: take it up".into(),
        danger: false,
        back: format!("/protect/pairs/{}", pair.0),
        fields: render(&TakeUpFields {
            id: pair.0,
            all: all
                .iter()
                .map(|(id, name)| (id.0, name.clone(), chosen(id)))
                .collect(),
        }),
        ask: Proposal::Handover(Ask::Clear { machines }),
        wrong: vec![],
    }
}
