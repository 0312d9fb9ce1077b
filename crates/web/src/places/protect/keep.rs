//! The sheets that make, change and withdraw a pledge.

use super::{super::storage::qualities, pledge_file};
use crate::frame::{
    Fields,
    consequences::Wrong,
    fields::{minutes_to_choose, whole},
    sheet::{Filled, render},
};
use askama::Template;
use std::collections::BTreeSet;
use zastrugi_core::{
    estate::{Away, Clauses, Offers, Pledge, Point, Taker},
    ids::{PledgeId, SiteId},
    moment::Span,
    rooms::{
        Proposal,
        pledges::{Ask, Keep},
    },
    text::Line,
    view::View,
};

const EVERY: [u64; 9] = [15, 30, 60, 120, 240, 360, 720, 1440, 10_080];
const KEPT: [u64; 8] = [1440, 2880, 4320, 10_080, 20_160, 43_200, 129_600, 525_600];
const AGE: [u64; 9] = [5, 15, 30, 60, 240, 720, 1440, 2880, 10_080];

const PROVED: [u64; 6] = [1440, 10_080, 20_160, 43_200, 129_600, 259_200];
const BACK: [u64; 9] = [5, 10, 15, 30, 60, 120, 240, 480, 1440];

#[derive(Template)]
#[template(path = "places/protect/keep.html")]
struct KeepFields {
    of: String,
    /// A saved one that could not be read.
    file: String,
    name: String,
    note: String,
    to: String,
    qualities: String,
    known: Vec<String>,
    latency: String,
    spare: String,
    every: u64,
    everies: Vec<(u64, String)>,
    taker: String,
    takers: Vec<(&'static str, &'static str)>,
    quiet: bool,
    kept: u64,
    kepts: Vec<(u64, String)>,
    age: u64,
    ages: Vec<(u64, String)>,
    site: u64,
    sites: Vec<(u64, String)>,
    proved: u64,
    proveds: Vec<(u64, String)>,
    back: u64,
    backs: Vec<(u64, String)>,
    tier: u8,
}

/// A length of time that was chosen, in minutes; 0: none.
fn minutes(fields: &Fields, name: &str, had: Option<Span>) -> u64 {
    let usual = had.map_or(0, |s| s.0 / 60_000).to_string();
    fields.or(name, &usual).parse().unwrap_or(0)
}

fn span(minutes: u64) -> Option<Span> {
    (minutes > 0).then(|| Span::mins(minutes))
}

/// A count that was typed; empty: none.
fn number(text: &str, field: &str, wrong: &mut Vec<Wrong>) -> Option<u32> {
    if text.is_empty() {
        return None;
    }
    whole(text)
        .map_err(|words| wrong.push((field.to_owned(), words)))
        .ok()
}

/// Choices, without the 0 that means that nothing is chosen.
fn choose(minutes: &[u64], chosen: u64) -> Vec<(u64, String)> {
    let all = minutes_to_choose(minutes, chosen).into_iter();
    all.filter(|(m, _)| *m > 0).collect()
}

fn text(fields: &Fields, name: &str, had: Option<String>) -> String {
    fields.or(name, &had.unwrap_or_default())
}

/// What the fields mean.
fn clauses(typed: &KeepFields, wrong: &mut Vec<Wrong>) -> Clauses {
    let spare = number(&typed.spare, "spare", wrong).map(|n| u8::try_from(n).unwrap_or(u8::MAX));
    let offers = Offers {
        qualities: qualities::words(&typed.qualities),
        latency_us: number(&typed.latency, "latency", wrong),
        spare: spare.filter(|n| *n > 0),
    };
    let taker = Taker::ALL.into_iter().find(|t| t.key() == typed.taker);
    Clauses {
        storage: Some(offers).filter(|o| *o != Offers::default()),
        point: span(typed.every).map(|every| Point {
            every,
            taker: taker.unwrap_or_default(),
            quiet: typed.quiet,
        }),
        kept: span(typed.kept),
        remote: span(typed.age).map(|age| Away {
            age,
            site: (typed.site > 0).then_some(SiteId(typed.site)),
        }),
        proved: span(typed.proved),
        back: span(typed.back),
        tier: (typed.tier > 0).then_some(typed.tier),
    }
}

fn read(view: &View, fields: &Fields, had: Option<&Pledge>) -> KeepFields {
    let was = had.map(|p| p.clauses.clone()).unwrap_or_default();
    let storage = was.storage.unwrap_or_default();
    let words: Vec<String> = storage.qualities.iter().map(Line::to_string).collect();
    let qualities = fields.or("qualities", &words.join(", "));
    let latency = text(fields, "latency", storage.latency_us.map(|n| n.to_string()));
    let spare = text(fields, "spare", storage.spare.map(|n| n.to_string()));
    let every = minutes(fields, "every", was.point.as_ref().map(|p| p.every));
    let taker = fields.or(
        "taker",
        was.point.as_ref().map_or(Taker::Any, |p| p.taker).key(),
    );
    let quiet = fields.ticked("quiet", was.point.as_ref().is_some_and(|p| p.quiet));
    let kept = minutes(fields, "kept", was.kept);
    let age = minutes(fields, "age", was.remote.as_ref().map(|r| r.age));
    let had_site = was.remote.as_ref().and_then(|r| r.site).map_or(0, |s| s.0);
    let site = fields
        .or("site", &had_site.to_string())
        .parse()
        .unwrap_or(0);
    let proved = minutes(fields, "proved", was.proved);
    let back = minutes(fields, "back", was.back);
    let tier = fields
        .or("tier", &was.tier.unwrap_or(0).to_string())
        .parse()
        .unwrap_or(0);
    let known: BTreeSet<Line> = view
        .estate
        .volumes
        .values()
        .flat_map(|v| v.qualities.clone())
        .collect();
    let sites = view.estate.sites.values().map(|s| (s.id.0, s.name.clone()));
    KeepFields {
        file: fields.secret("file").to_owned(),
        of: had.map_or_else(String::new, |p| p.id.0.to_string()),
        name: text(fields, "name", had.map(|p| p.name.clone())),
        note: text(fields, "note", had.map(|p| p.note.clone())),
        to: text(
            fields,
            "to",
            had.and_then(|p| p.to.as_ref().map(ToString::to_string)),
        ),
        qualities,
        known: known.into_iter().map(String::from).collect(),
        latency,
        spare,
        every,
        everies: choose(&EVERY, every),
        taker,
        takers: Taker::ALL
            .into_iter()
            .map(|t| (t.key(), t.words()))
            .collect(),
        quiet,
        kept,
        kepts: choose(&KEPT, kept),
        age,
        ages: choose(&AGE, age),
        site,
        sites: sites.collect(),
        proved,
        proveds: choose(&PROVED, proved),
        back,
        backs: choose(&BACK, back),
        tier,
    }
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let (loaded, mut wrong) = match fields.get("look") {
        "load" => pledge_file::load(view, fields),
        _ => (fields.clone(), vec![]),
    };
    let fields = &loaded;
    let of = fields.get("ids").parse().ok().map(PledgeId);
    let had = of.and_then(|id| view.estate.pledges.get(&id)).map(|p| &**p);
    let typed = read(view, fields, had);
    let ask = Keep {
        pledge: of,
        name: typed.name.as_str().into(),
        note: typed.note.as_str().into(),
        to: typed.to.as_str().into(),
        clauses: clauses(&typed, &mut wrong),
    };
    Filled {
        title: had.map_or_else(
            || "New pledge".into(),
            |p| format!("Change the pledge {}", p.name),
        ),
        lead: "What machines are promised. What you leave open is not promised.".into(),
        run: if had.is_some() {
            "Run: change it"
        } else {
            "Run: make it"
        }
        .into(),
        danger: false,
        back: of.map_or_else(
            || "/protect".into(),
            |id| format!("/protect/pledges/{}", id.0),
        ),
        fields: render(&typed),
        ask: Proposal::Pledges(Ask::Keep(Box::new(ask))),
        wrong,
    }
}

#[derive(Template)]
#[template(
    source = r#"<input type="hidden" name="ids" value="{{ id }}"><fieldset><legend class="legend">Pledge</legend><div class="field" id="f-pledge" data-field="pledge"><p><span class="chip">{{ name }}</span></p><span class="wrong" role="alert"></span></div></fieldset>"#,
    ext = "html"
)]
struct OneField {
    id: u64,
    name: String,
}

pub(crate) fn remove(view: &View, fields: &Fields) -> Filled {
    let id = PledgeId(fields.get("ids").parse().unwrap_or(0));
    let name = view
        .estate
        .pledges
        .get(&id)
        .map_or_else(|| id.to_string(), |p| p.name.clone());
    Filled {
        title: format!("Withdraw the pledge {name}"),
        lead: "Nothing that protects machines is changed; only nobody looks any more whether it suffices.".into(),
        run: "Run: withdraw it".into(),
        danger: true,
        back: format!("/protect/pledges/{}", id.0),
        fields: render(&OneField { id: id.0, name }),
        ask: Proposal::Pledges(Ask::Remove { pledge: id }),
        wrong: vec![],
    }
}
