//! What one machine is promised, clause by clause, with the facts that each standing rests on.

use super::{
    clauses::key,
    glyph_of,
    line::Line,
    place, prove,
    series::{PointRow, row},
};
use crate::frame::{AtDesk, Page, Problem, Signed, page as whole, part, sheet::render, time};
use askama::Template;
use rocket::get;
use zastrugi_core::{
    estate::{AnyPoint, CopyPlace, Elsewhere, Estate, Machine, PointAt, StoredPoint, Taker},
    ids::MachineId,
    permits::Act,
    pledges::{Demand, Evidence, Judged, Promise, Standing},
    runs::Object,
};

struct Fact {
    text: String,
    at: String,
    /// Its name, and where it can be looked at.
    of: Option<(String, String)>,
}

struct Clause {
    key: &'static str,
    name: &'static str,
    glyph: &'static str,
    word: &'static str,
    since: String,
    asked: String,
    by: String,
    why: String,
    facts: Vec<Fact>,
    /// What would mend it: words, and where.
    remedies: Vec<(String, String)>,
}

#[derive(Template)]
#[template(path = "places/protect/machine.html", blocks = ["body"])]
struct MachinePage {
    id: u64,
    name: String,
    sentence: String,
    pledges: Vec<(u64, String)>,
    clauses: Vec<Clause>,
    line: String,
    uncovered: Vec<String>,
    copies: Vec<(Placed, PointRow)>,
    /// Some lie in a store.
    stored: bool,
    /// Questions that its guest must answer.
    must: Vec<String>,
    may: bool,
}

/// More of them are in the store's own list.
const SHOWN: usize = 50;

fn copies(estate: &Estate, m: &Machine) -> Vec<(Placed, PointRow)> {
    let mut all = points(estate, m);
    all.sort_by_key(|(_, p)| std::cmp::Reverse(p.taken));
    all.truncate(SHOWN);
    let all = all.into_iter();
    all.map(|((at, place), p)| (place, row(prove::path(at), p)))
        .collect()
}

/// Where copies of it lie, and where that can be looked at.
type Placed = (String, String);

/// All of its points elsewhere, with what has them.
fn points<'a>(estate: &'a Estate, m: &'a Machine) -> Vec<((AnyPoint, Placed), &'a StoredPoint)> {
    let of = |there: Elsewhere<'a>| {
        let (to, name) = match there.at {
            CopyPlace::Store(id) => (format!("/protect/stores/{}", id.0), there.name.to_owned()),
            CopyPlace::Replica(id, _) => (
                format!("/machines/{}", id.0),
                format!("{}, {}", Object::Machine(id).name(estate), there.name),
            ),
        };
        let at = move |p: &StoredPoint| match there.at {
            CopyPlace::Store(store) => AnyPoint::Stored(PointAt {
                store,
                machine: m.uuid,
                session: p.session,
            }),
            CopyPlace::Replica(replica, _) => AnyPoint::Replicated {
                replica,
                session: p.session,
            },
        };
        let points = there.points.into_iter();
        points.map(move |p| ((at(p), (to.clone(), name.clone())), p))
    };
    estate.elsewhere(m).flat_map(of).collect()
}

fn fact(estate: &Estate, e: &Evidence) -> Fact {
    Fact {
        text: e.text.clone(),
        at: e.at.map_or_else(String::new, time),
        of: e.of.and_then(|of| place(estate, of)),
    }
}

/// What a person can do about it here.
fn remedies(estate: &Estate, m: &Machine, judged: &Judged) -> Vec<(String, String)> {
    if matches!(judged.standing, Standing::Kept | Standing::Unchecked) {
        return Vec::new();
    }
    let moved = || {
        (
            "Move its disks to where it holds".to_owned(),
            format!("/sheet/move?stay=on&ids={}", m.id.0),
        )
    };
    let arrays = || {
        let of = m
            .volumes()
            .into_iter()
            .filter_map(|v| estate.volumes.get(&v)?.backing.as_ref().map(|b| b.array));
        let all: std::collections::BTreeSet<_> = of.collect();
        let named = all.into_iter().filter_map(|id| estate.arrays.get(&id));
        named
            .map(|a| {
                (
                    format!("See what {} does", a.name),
                    format!("/storage/arrays/{}", a.id.0),
                )
            })
            .collect::<Vec<_>>()
    };
    let snapshot = || {
        (
            "Take a snapshot now".to_owned(),
            format!("/sheet/snapshot?ids={}", m.id.0),
        )
    };
    let schedule = || {
        (
            "Have snapshots taken by a schedule".to_owned(),
            "/schedules".to_owned(),
        )
    };
    match &judged.demand {
        Demand::Storage(_) | Demand::Remote(_) => {
            std::iter::once(moved()).chain(arrays()).collect()
        }
        Demand::Point(p) if p.taker == Taker::Array => {
            std::iter::once(moved()).chain(arrays()).collect()
        }
        Demand::Point(_) if m.is_node() => vec![],
        Demand::Point(_) => vec![snapshot(), schedule()],
        Demand::Kept(_) => std::iter::once(schedule()).chain(arrays()).collect(),
        Demand::Proved(_) | Demand::Back(_) => proofs(estate, m),
        Demand::Tier(_) => vec![(
            "Change its tier".to_owned(),
            format!("/sheet/edit-machines?ids={}", m.id.0),
        )],
    }
}

/// The newest point is proven, or a job does that again and again.
fn proofs(estate: &Estate, m: &Machine) -> Vec<(String, String)> {
    let all = points(estate, m).into_iter();
    match all.max_by_key(|(_, p)| p.taken) {
        Some(((at, _), _)) => vec![(
            "Prove the newest point".to_owned(),
            format!("/sheet/prove?point={at}"),
        )],
        None => vec![(
            "Back it up".to_owned(),
            format!("/sheet/back-up?ids={}", m.id.0),
        )],
    }
}

/// An array that could be asked to take snapshots as it did before.
fn set_back(estate: &Estate, m: &Machine, judged: &Judged) -> Option<(String, String)> {
    let snapshots = matches!(&judged.demand, Demand::Point(_) | Demand::Kept(_));
    if !snapshots || judged.standing < Standing::AtRisk {
        return None;
    }
    let changed = m.volumes().into_iter().find_map(|v| {
        let backing = estate.volumes.get(&v)?.backing.as_ref()?;
        let array = estate.arrays.get(&backing.array)?;
        let served = array.served.get(&v)?;
        Some((array, v, served.snapshots_before()?))
    });
    let (array, volume, was) = changed?;
    Some((
        format!("Have {} take them every {} again", array.name, was.every),
        format!("/sheet/set-back?ids={}&volume={}", array.id.0, volume.0),
    ))
}

fn clause(estate: &Estate, m: &Machine, judged: &Judged, may: (bool, bool)) -> Clause {
    let (may, storage) = may;
    let back = storage.then(|| set_back(estate, m, judged)).flatten();
    Clause {
        key: key(judged.demand.sort()),
        name: judged.demand.sort().word(),
        glyph: glyph_of(judged.standing),
        word: judged.standing.word(),
        since: judged.since.map_or_else(String::new, time),
        asked: judged.demand.words(estate),
        by: judged.by.join(", "),
        why: judged.why.clone(),
        facts: judged.evidence.iter().map(|e| fact(estate, e)).collect(),
        remedies: back
            .into_iter()
            .chain(
                may.then(|| remedies(estate, m, judged))
                    .into_iter()
                    .flatten(),
            )
            .collect(),
    }
}

fn sentence(promise: Option<&Promise>) -> String {
    let Some(promise) = promise else {
        return "Nothing is promised to it.".into();
    };
    let worst = promise.worst();
    match (promise.standing(), worst) {
        (Standing::Kept, _) | (_, None) => "All that it is promised is kept.".into(),
        (standing, Some(j)) => format!(
            "{} is {}: {}",
            j.demand.sort().word(),
            standing.word(),
            j.why
        ),
    }
}

fn build(signed: &Signed, desk: &AtDesk, id: u64) -> Result<MachinePage, Problem> {
    let view = desk.look();
    let estate = &view.estate;
    let m = estate
        .machines
        .get(&MachineId(id))
        .ok_or_else(|| Problem::not_found("This machine"))?;
    let now = desk.now();
    let promise = Promise::of(estate, m, now);
    let may = signed.may(Act::Machines);
    let judged = promise.iter().flat_map(|p| &p.judged);
    let line = promise.as_ref().and_then(|p| Line::of(estate, m, p, now));
    Ok(MachinePage {
        id,
        name: m.name.clone(),
        sentence: sentence(promise.as_ref()),
        clauses: judged
            .map(|j| clause(estate, m, j, (may, signed.may(Act::Storage))))
            .collect(),
        line: line.map_or_else(String::new, |l| render(&l)),
        pledges: promise
            .iter()
            .flat_map(|p| &p.pledges)
            .map(|(id, n)| (id.0, n.clone()))
            .collect(),
        uncovered: promise
            .as_ref()
            .map(|p| p.uncovered.clone())
            .unwrap_or_default(),
        copies: copies(estate, m),
        stored: estate.backups_of(m).next().is_some(),
        must: m.must.iter().map(ToString::to_string).collect(),
        may: may && m.deleted.is_none(),
    })
}

#[get("/protect/machines/<id>")]
pub(crate) fn show(signed: Signed, desk: &AtDesk, id: u64) -> Page {
    let body = build(&signed, desk, id)?;
    let title = format!("What {} is promised", body.name);
    whole(&signed, desk, "protect", &title, &body)
}

#[get("/protect/machines/<id>/part")]
pub(crate) fn page_part(signed: Signed, desk: &AtDesk, id: u64) -> Page {
    part(&build(&signed, desk, id)?.as_body())
}
