//! The sheets by which recovery points are proven, and by which it is said what guests must answer.

use super::{replica_point, restore, series};
use crate::frame::{
    AtDesk, Fields,
    sheet::{Filled, render},
};
use crate::places::machines;
use askama::Template;
use zastrugi_core::{
    estate::{AnyPoint, Estate, Proof},
    ids::{ClusterId, MachineId},
    moment::Span,
    rooms::{
        Proposal,
        answers::{self, LIMIT},
        proving::{Ask, ProvePoint},
    },
    view::View,
};

/// So many points are asked what they hold before a sheet is shown.
const MOST: usize = 32;

#[derive(Template)]
#[template(path = "places/protect/prove.html")]
struct ProveFields {
    point: String,
    of: String,
    to: String,
    clusters: Vec<(u64, String)>,
    cluster: u64,
    limit: String,
    /// Of whom there are points of the same instant.
    others: String,
    together: bool,
}

pub(crate) fn prepare<'a>(
    desk: &'a AtDesk,
    fields: &'a Fields,
) -> futures::future::BoxFuture<'a, ()> {
    Box::pin(async move {
        restore::prepare(desk, fields).await;
        if let Ok(at) = fields.get("point").parse() {
            ask_all(desk, at).await;
        }
    })
}

/// What a point has, and those of the same instant, is asked where that is not known. More than can be proven together are refused,
/// whatever they hold.
pub(super) async fn ask_all(desk: &AtDesk, at: AnyPoint) {
    let all = desk.look().estate.of_one_instant(at);
    for at in all.into_iter().take(MOST).filter_map(AnyPoint::stored) {
        desk.ask_for_point(at).await;
    }
}

/// Where a point can be looked at.
pub(super) fn path(at: AnyPoint) -> String {
    match at {
        AnyPoint::Stored(at) => series::path(at),
        AnyPoint::Replicated { replica, session } => replica_point::path(replica, session),
    }
}

fn of_whom(estate: &Estate, at: AnyPoint) -> String {
    let known = at.original(estate).map(|m| m.name.clone());
    known.unwrap_or_else(|| at.words(estate))
}

pub(crate) fn point(view: &View, fields: &Fields) -> Filled {
    let estate = &view.estate;
    let at = fields.get("point").parse::<AnyPoint>().ok();
    let of = at.map_or_else(|| "a recovery point".to_owned(), |at| at.words(estate));
    let site = at.and_then(|at| at.site(estate));
    // The disks of a replica are copied by the hosts that reach them.
    let own = match at {
        Some(AnyPoint::Replicated { replica, .. }) => {
            estate.machines.get(&replica).and_then(|m| m.cluster)
        }
        Some(AnyPoint::Stored(_)) | None => None,
    };
    let ready = estate.clusters.values();
    let ready = ready.filter(|c| c.ready && own.is_none_or(|own| own == c.id));
    let mut clusters: Vec<_> = ready
        .map(|c| (site != Some(c.site), c.id.0, c.name.clone(), c.site))
        .collect();
    clusters.sort();
    let named = |at| estate.sites.get(&at).map_or("", |s| s.name.as_str());
    let choices = clusters
        .iter()
        .map(|(_, id, name, at)| (*id, format!("{name}, {}", named(*at))));
    let nearest = clusters.first().filter(|c| !c.0).map_or(0, |c| c.1);
    let cluster: u64 = fields
        .or("cluster", &nearest.to_string())
        .parse()
        .unwrap_or(0);
    let others: Vec<AnyPoint> = at.map(|at| estate.of_one_instant(at)).unwrap_or_default();
    let others: Vec<String> = others
        .iter()
        .skip(1)
        .map(|at| of_whom(estate, *at))
        .collect();
    let together = fields.ticked("together", true) && !others.is_empty();
    let limit = fields.or("limit", &(LIMIT.0 / 60_000).to_string());
    let minutes = limit.trim().parse::<u64>().unwrap_or(0).min(10_000);
    Filled {
        title: format!("Prove {of}"),
        lead: "A machine is made of it and powered on where nobody hears of it. What it answers is kept with the point, and the machine is removed for good.".into(),
        run: "Run: prove it".into(),
        danger: false,
        back: at.map_or_else(|| "/protect".to_owned(), path),
        fields: render(&ProveFields {
            point: fields.get("point").to_owned(),
            to: at.map(path).unwrap_or_default(),
            of,
            clusters: choices.collect(),
            cluster,
            limit,
            others: others.join(", "),
            together,
        }),
        ask: Proposal::Proving(Ask::Point(ProvePoint {
            point: at,
            cluster: (cluster > 0).then_some(ClusterId(cluster)),
            limit: Span::mins(minutes),
            together,
        })),
        wrong: vec![],
    }
}

#[derive(Template)]
#[template(path = "places/protect/must_answer.html")]
struct MustFields {
    machines: Vec<(u64, String)>,
    questions: String,
}

#[derive(Template)]
#[template(
    source = r#"{% import "frame/forms.html" as forms %}{% call forms::machines(machines) %}{% endcall %}<div class="field" id="f-machines" data-field="machines"><span class="wrong" role="alert"></span></div>"#,
    ext = "html"
)]
struct Asked {
    machines: Vec<(u64, String)>,
}

fn who(named: &[(u64, String)]) -> String {
    match named {
        [(_, one)] => one.clone(),
        all => format!("{} machines", all.len()),
    }
}

pub(crate) fn must(view: &View, fields: &Fields) -> Filled {
    let (ids, named) = machines::chosen(view, fields);
    let had = ids.first().and_then(|id| view.estate.machines.get(id));
    let had = had.map_or(&[][..], |m| &m.must);
    let usual: Vec<String> = had.iter().map(ToString::to_string).collect();
    let questions = fields.or("questions", &usual.join("\n"));
    Filled {
        title: format!("What {} must answer", who(&named)),
        lead: "By this it is told whether it is well: when somebody asks, and when a copy of it is booted to prove a recovery point.".into(),
        run: "Run: keep it".into(),
        danger: false,
        back: machines::back(&named),
        fields: render(&MustFields {
            machines: named,
            questions: questions.clone(),
        }),
        ask: Proposal::Answers(answers::Ask::Must {
            machines: ids,
            questions: questions.as_str().into(),
        }),
        wrong: vec![],
    }
}

pub(crate) fn now(view: &View, fields: &Fields) -> Filled {
    let (ids, named): (Vec<MachineId>, _) = machines::chosen(view, fields);
    Filled {
        title: format!("Ask whether {} is well", who(&named)),
        lead: "Its agent asks inside the guest what it must answer; the run shows what came."
            .into(),
        run: "Run: ask".into(),
        danger: false,
        back: machines::back(&named),
        fields: render(&Asked { machines: named }),
        ask: Proposal::Answers(answers::Ask::Now { machines: ids }),
        wrong: vec![],
    }
}

/// What came of a copy, in a list: shape, word, how long ago or that nobody tried.
pub(super) struct Proven {
    pub(super) glyph: &'static str,
    pub(super) word: &'static str,
}

pub(super) fn proven(proof: Option<&Proof>) -> Proven {
    let (glyph, word) = match proof.map(Proof::is_good) {
        Some(true) => ("steady", "proven"),
        Some(false) => ("down", "did not come up well"),
        None => ("unknown", "not tried"),
    };
    Proven { glyph, word }
}
