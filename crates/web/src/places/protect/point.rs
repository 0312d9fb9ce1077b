//! A recovery point: what it has, as its store has it, and what can be made of it.

use super::{
    prove::{Proven, proven},
    series::{identity, path},
};
use crate::frame::{AtDesk, Page, Problem, Signed, page as whole, part, time};
use askama::Template;
use rocket::get;
use std::collections::BTreeSet;
use zastrugi_core::{
    copying,
    estate::{AnyPoint, Estate, PointAt, Proof, StoredPoint},
    ids::StoreId,
    permits::Act,
};

#[derive(Template)]
#[template(path = "places/protect/point.html", blocks = ["body"])]
struct PointPage {
    at: PointAt,
    to: String,
    name: String,
    /// None: it is gone.
    machine: Option<u64>,
    store: (u64, String),
    /// Where all points of it are.
    series: String,
    taken: String,
    facts: Vec<(&'static str, String)>,
    proof: Option<Shown>,
    /// The copy by which it is being proven.
    copy: Option<(u64, String)>,
    may: bool,
    may_purge: bool,
}

/// What came of a copy that was booted.
pub(super) struct Shown {
    pub(super) proven: Proven,
    pub(super) at: String,
    pub(super) words: String,
    pub(super) facts: Vec<(&'static str, String)>,
    /// Question, whether the answer is good, the answer.
    pub(super) replies: Vec<(String, bool, String)>,
    pub(super) picture: Option<uuid::Uuid>,
}

pub(super) fn shown(proof: &Proof) -> Shown {
    Shown {
        proven: proven(Some(proof)),
        at: time(proof.at),
        words: proof.words(),
        facts: vec![
            ("Booted by", proof.host.clone()),
            ("Since it was asked for", proof.took.to_string()),
            ("Since it was powered on", proof.booted.to_string()),
            ("Booted with", proof.with.join(", ")),
        ]
        .into_iter()
        .filter(|(_, v)| !v.is_empty())
        .collect(),
        replies: proof
            .replies
            .iter()
            .map(|r| (r.question.to_string(), r.fine, r.said.clone()))
            .collect(),
        picture: proof.picture,
    }
}

#[derive(Template)]
#[template(path = "places/protect/point_proof.html")]
pub(super) struct ProofPart {
    pub(super) proof: Option<Shown>,
    pub(super) copy: Option<(u64, String)>,
    pub(super) to: String,
}

#[derive(Template)]
#[template(path = "places/protect/point_has.html")]
struct Has {
    wrong: String,
    /// Where files of its disks are, for those who may look at them.
    files: Option<String>,
    facts: Vec<(&'static str, String)>,
    /// Number, size, what it holds.
    disks: Vec<(usize, String, String)>,
    cards: Vec<(String, String)>,
    labels: Vec<String>,
}

pub(super) fn asked(id: u64, machine: &str, session: &str) -> Result<PointAt, Problem> {
    Ok(PointAt {
        store: StoreId(id),
        machine: identity(machine)?,
        session: identity(session)?,
    })
}

fn build(signed: &Signed, desk: &AtDesk, at: PointAt) -> Result<PointPage, Problem> {
    let view = desk.look();
    let estate = &view.estate;
    let (store, point) = at
        .found(estate)
        .map_err(|_| Problem::not_found("This recovery point"))?;
    let named = estate
        .backups_with(at.machine)
        .find(|s| s.store == at.store);
    let machine = estate.machine_with_uuid(&at.machine);
    let name = named.map_or_else(String::new, |s| s.name.clone());
    let with = shared(estate, point, &name);
    Ok(PointPage {
        at,
        to: path(at),
        name,
        machine: machine.filter(|m| m.deleted.is_none()).map(|m| m.id.0),
        store: (store.id.0, store.name.clone()),
        series: format!("/protect/stores/{}/{}", at.store.0, at.machine),
        taken: time(point.taken),
        facts: vec![
            ("How", point.consistent.word().to_owned()),
            ("Disks", point.size.to_string()),
            ("Read for it", point.read.to_string()),
            ("New in the store", point.stored.to_string()),
            ("Took", point.took.to_string()),
            ("Stays", stays(estate, point)),
            ("Of one instant with", with),
        ]
        .into_iter()
        .filter(|(_, v)| !v.is_empty())
        .collect(),
        proof: point.proof.as_deref().map(shown),
        copy: by(estate, at.into()),
        may: signed.may(Act::Machines),
        may_purge: signed.may(Act::Purge),
    })
}

/// The copy by which a point is being proven.
pub(super) fn by(estate: &Estate, at: AnyPoint) -> Option<(u64, String)> {
    let copy = estate
        .proving()
        .find(|m| m.proves.as_deref() == Some(&at))?;
    Some((copy.id.0, copy.name.clone()))
}

/// Whose points are of the same instant; nothing: nobody's.
pub(super) fn shared(estate: &Estate, point: &StoredPoint, own: &str) -> String {
    let Some(group) = point.group else {
        return String::new();
    };
    let is = |p: &StoredPoint| p.group == Some(group);
    let stored = estate.series.values();
    let stored = stored
        .filter(|s| s.points.iter().any(is))
        .map(|s| s.name.clone());
    let pairs = estate.pairs.keys();
    let replicas = pairs
        .flat_map(|pair| estate.replicas_over(*pair))
        .filter(|m| m.replicated().any(is))
        .filter_map(|m| Some(m.replica.as_ref()?.name.clone()));
    let names: BTreeSet<String> = stored.chain(replicas).filter(|n| n != own).collect();
    names.into_iter().collect::<Vec<_>>().join(", ")
}

/// Until when, in words.
pub(super) fn stays(estate: &Estate, point: &StoredPoint) -> String {
    match (point.ends, point.job.map(|id| estate.jobs.get(&id))) {
        (Some(ends), _) => format!("until {} UTC", ends.stamp()),
        (None, Some(Some(job))) => format!("as job {} keeps: {}", job.name, job.keeps),
        (None, _) => "until somebody lets it go".into(),
    }
}

#[get("/protect/stores/<id>/<machine>/<session>", rank = 2)]
pub(crate) fn show(signed: Signed, desk: &AtDesk, id: u64, machine: &str, session: &str) -> Page {
    let body = build(&signed, desk, asked(id, machine, session)?)?;
    let title = format!("A recovery point of {}", body.name);
    whole(&signed, desk, "protect", &title, &body)
}

/// While it is being proven.
#[get("/protect/stores/<id>/<machine>/<session>/part")]
pub(crate) fn page_part(
    signed: Signed,
    desk: &AtDesk,
    id: u64,
    machine: &str,
    session: &str,
) -> Page {
    let body = build(&signed, desk, asked(id, machine, session)?)?;
    part(&ProofPart {
        proof: body.proof,
        copy: body.copy,
        to: body.to,
    })
}

/// Read from the store while the page is shown already.
#[get("/protect/stores/<id>/<machine>/<session>/has")]
pub(crate) async fn has(
    signed: Signed,
    desk: &AtDesk,
    id: u64,
    machine: &str,
    session: &str,
) -> Page {
    let at = asked(id, machine, session)?;
    desk.ask_for_point(at).await;
    let view = desk.look();
    let none = |wrong: String| Has {
        wrong,
        files: None,
        facts: vec![],
        disks: vec![],
        cards: vec![],
        labels: vec![],
    };
    let kept = match copying::kept(&view, at, desk.now()) {
        Ok(kept) => kept,
        Err(why) => return part(&none(why.text)),
    };
    part(&Has {
        wrong: String::new(),
        files: signed
            .may(Act::Machines)
            .then(|| format!("{}/files", path(at))),
        facts: vec![
            ("vCPUs", kept.vcpus.to_string()),
            ("Memory", kept.memory.to_string()),
            ("Firmware", kept.firmware.words().to_owned()),
            ("Note", kept.note.clone()),
        ],
        disks: (1..)
            .zip(&kept.disks)
            .map(|(n, d)| (n, d.size.to_string(), d.held.to_string()))
            .collect(),
        cards: kept.cards.clone(),
        labels: kept
            .labels
            .iter()
            .map(|(k, v)| format!("{k}={v}"))
            .collect(),
    })
}
