//! The sheet by which a plan is made or changed, and the one that removes it. Stages stand in it one after the other, with room for one
//! more; one of which everything is emptied is none.

use super::{super::typed::Typed, file};
use crate::frame::{
    AtDesk, Fields, Signed,
    consequences::Wrong,
    fields::minutes_to_choose,
    sheet::{Filled, render},
};
use askama::Template;
use futures::future::BoxFuture;
use zastrugi_core::{
    estate::{Estate, RecoveryPlan, Stage, Then, Way},
    ids::{PairId, PlanId, SiteId},
    limits,
    moment::Span,
    rooms::{
        Proposal,
        plans::{Ask, Keep, KeepStage},
    },
    runs::Object,
    view::View,
};

/// How long a guest may take, in minutes.
const LIMITS: [u64; 7] = [1, 2, 5, 10, 20, 30, 60];
const USUAL: u64 = 5;

#[derive(Template)]
#[template(path = "places/protect/plans/keep.html")]
struct KeepFields {
    of: String,
    file: String,
    name: String,
    ways: Vec<(String, String)>,
    way: String,
    count: usize,
    rows: Vec<Row>,
    drills: String,
    more: bool,
}

/// A stage as it is typed.
struct Row {
    n: usize,
    name: String,
    named: String,
    who: String,
    in_turn: bool,
    limit: u64,
    limits: Vec<(u64, String)>,
    then: String,
}

impl Row {
    fn is_empty(&self) -> bool {
        let all = [&self.name, &self.named, &self.who, &self.then];
        all.iter().all(|text| text.trim().is_empty())
    }
    fn sent(&self) -> KeepStage {
        KeepStage {
            row: self.n,
            name: self.name.as_str().into(),
            named: self.named.as_str().into(),
            who: self.who.as_str().into(),
            in_turn: self.in_turn,
            limit: Span::mins(self.limit),
            then: self.then.as_str().into(),
        }
    }
}

/// How a way is chosen: `5-2`, by the pair and from where.
pub(super) fn key(way: Way) -> String {
    format!("{}-{}", way.pair.0, way.from.0)
}

fn way_of(key: &str) -> Option<Way> {
    let (pair, from) = key.split_once('-')?;
    Some(Way {
        pair: PairId(pair.parse().ok()?),
        from: SiteId(from.parse().ok()?),
    })
}

/// A line as it is typed.
pub(super) fn line(estate: &Estate, then: &Then) -> String {
    match then {
        Then::Confirm { text } => format!("confirm {text}"),
        Then::Pause { time } if time.0 % 60_000 == 0 => format!("wait {} min", time.0 / 60_000),
        Then::Pause { time } => format!("wait {} s", time.0 / 1000),
        Then::Run { machine, command } => {
            format!(
                "in {} run {command}",
                Object::Machine(*machine).name(estate)
            )
        }
    }
}

pub(super) fn names(estate: &Estate, stage: &Stage) -> Vec<String> {
    let all = stage.named.iter();
    all.map(|id| Object::Machine(*id).name(estate)).collect()
}

/// `ferry = drill-ferry`, a line each.
pub(super) fn drills(estate: &Estate, plan: &RecoveryPlan) -> Vec<(String, String)> {
    let name = |id| Object::Network(id).name(estate);
    // Those of the other side stay with the plan for the day when it is turned.
    let there = estate.road(plan.way).map(|r| r.to.site);
    let all = plan.drills.iter();
    let all = all.filter(|(of, _)| {
        estate
            .site_of_network(**of)
            .is_none_or(|s| Some(s) == there)
    });
    all.map(|(of, stands)| (name(*of), name(*stands))).collect()
}

fn row(estate: &Estate, fields: &Fields, n: usize, had: Option<&Stage>) -> Row {
    let text = |name: &str, usual: String| fields.or(&format!("{name}-{n}"), &usual);
    let usual = had.map_or(USUAL, |s| s.limit.0 / 60_000).max(1);
    let limit = text("limit", usual.to_string())
        .parse()
        .unwrap_or(0)
        .min(100_000);
    let lines = had.map(|s| s.then.iter().map(|t| line(estate, t)).collect::<Vec<_>>());
    Row {
        n,
        name: text("stage", had.map_or_else(String::new, |s| s.name.clone())),
        named: text(
            "named",
            had.map_or_else(String::new, |s| names(estate, s).join(", ")),
        ),
        who: text(
            "who",
            had.and_then(|s| s.who.as_ref())
                .map_or_else(String::new, ToString::to_string),
        ),
        in_turn: fields.ticked(&format!("in_turn-{n}"), had.is_some_and(|s| s.in_turn)),
        limit,
        limits: minutes_to_choose(&LIMITS, limit)
            .into_iter()
            .filter(|(m, _)| *m > 0)
            .collect(),
        then: text("then", lines.unwrap_or_default().join("\n")),
    }
}

/// Of each pair first what leads from its first site.
fn ways(estate: &Estate) -> Vec<(String, String)> {
    let mut pairs: Vec<_> = estate.pairs.values().collect();
    pairs.sort_by(|a, b| a.name.cmp(&b.name));
    let all = pairs.into_iter().flat_map(|p| p.ways());
    all.map(|w| (key(w), estate.way_name(w))).collect()
}

/// One stage more, or what a saved plan says.
pub(crate) fn look<'a>(
    desk: &'a AtDesk,
    _signed: &'a Signed,
    mut fields: Fields,
) -> BoxFuture<'a, (Fields, Vec<Wrong>)> {
    Box::pin(async move {
        match fields.get("look") {
            "more" => {
                let count: usize = fields.get("count").parse().unwrap_or(1);
                fields.set("count", Some((count + 1).to_string()));
                (fields, vec![])
            }
            "load" => file::load(&desk.look(), fields),
            _ => (fields, vec![]),
        }
    })
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let estate = &view.estate;
    let of = fields.get("of").parse().ok().map(PlanId);
    let had = of.and_then(|id| estate.plans.get(&id));
    let usual = had.map_or(1, |p| p.stages.len()).max(1);
    let count: usize = fields
        .or("count", &usual.to_string())
        .parse()
        .unwrap_or(usual);
    let count = count.clamp(1, limits::STAGES.most + 1);
    let stage = |n: usize| had.and_then(|p| p.stages.get(n));
    let rows: Vec<Row> = (0..count)
        .map(|n| row(estate, fields, n, stage(n)))
        .collect();
    let name = fields.or("name", had.map_or("", |p| &p.name));
    let ways = ways(estate);
    let first = ways.first().map(|(k, _)| k.clone());
    let way = had.map(|p| key(p.way)).or(first).unwrap_or_default();
    let way = fields.or("way", &way);
    let lines = had.map(|p| drills(estate, p)).unwrap_or_default();
    let lines: Vec<String> = lines
        .into_iter()
        .map(|(of, stands)| format!("{of} = {stands}"))
        .collect();
    let drills = fields.or("drills", &lines.join("\n"));
    let stages = rows
        .iter()
        .filter(|r| !r.is_empty())
        .map(Row::sent)
        .collect();
    Filled {
        title: had.map_or_else(|| "Plan a recovery".into(), |p| format!("Change recovery plan {}", p.name)),
        lead: "Who is brought up at the other site of a pair, in which order, and what lies between. One that would not work yet can be kept: it needs you until it would.".into(),
        run: if had.is_some() { "Run: change it" } else { "Run: keep it" }.into(),
        danger: false,
        back: of.map_or_else(|| "/protect".to_owned(), |id| format!("/protect/plans/{}", id.0)),
        ask: Proposal::Plans(Ask::Keep(Box::new(Keep {
            plan: of,
            name: name.as_str().into(),
            way: way_of(&way),
            stages,
            drills: drills.as_str().into(),
        }))),
        fields: render(&KeepFields {
            of: of.map_or_else(String::new, |id| id.0.to_string()),
            file: fields.secret("file").to_owned(),
            name,
            ways,
            way,
            count,
            more: count < limits::STAGES.most,
            rows,
            drills,
        }),
        wrong: vec![],
    }
}

pub(crate) fn remove(view: &View, fields: &Fields) -> Filled {
    let id = fields.get("id").parse().map_or(PlanId(0), PlanId);
    let plan = view.estate.plans.get(&id);
    let name = plan.map_or_else(|| "a plan".to_owned(), |p| p.name.clone());
    Filled {
        title: format!("Remove recovery plan {name}"),
        lead: "Its machines are replicated as before.".into(),
        run: "Run: remove it".into(),
        danger: true,
        back: format!("/protect/plans/{}", id.0),
        fields: render(&Typed {
            id: id.0,
            name,
            typed: fields.get("typed").to_owned(),
        }),
        ask: Proposal::Plans(Ask::Remove {
            plan: id,
            typed: fields.get("typed").into(),
        }),
        wrong: vec![],
    }
}
