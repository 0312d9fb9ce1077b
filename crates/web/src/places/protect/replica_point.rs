//! A recovery point that a replica has: what it is, and whether a copy of it came up.

use super::point::{ProofPart, Shown, shared, shown, stays};
use super::series::identity;
use crate::frame::{AtDesk, Page, Problem, Signed, page as whole, part, time};
use askama::Template;
use rocket::get;
use zastrugi_core::{estate::AnyPoint, ids::MachineId, permits::Act, runs::Object};

#[derive(Template)]
#[template(path = "places/protect/replica_point.html", blocks = ["body"])]
struct PointPage {
    at: AnyPoint,
    to: String,
    /// What it is of, and its number where it is still there.
    of: String,
    original: Option<u64>,
    replica: (u64, String),
    session: String,
    pair: (u64, String),
    taken: String,
    facts: Vec<(&'static str, String)>,
    proof: Option<Shown>,
    /// The copy by which it is being proven.
    copy: Option<(u64, String)>,
    may: bool,
}

/// Where a point of a replica can be looked at.
pub(super) fn path(replica: MachineId, session: uuid::Uuid) -> String {
    format!("/protect/replicas/{}/{session}", replica.0)
}

fn build(signed: &Signed, desk: &AtDesk, id: u64, session: &str) -> Result<PointPage, Problem> {
    let view = desk.look();
    let estate = &view.estate;
    let (replica, session) = (MachineId(id), identity(session)?);
    let at = AnyPoint::Replicated { replica, session };
    let gone = || Problem::not_found("This recovery point");
    let point = at.found(estate).map_err(|_| gone())?;
    let machine = estate.machines.get(&replica).ok_or_else(gone)?;
    let of = machine.replica.as_ref().ok_or_else(gone)?;
    Ok(PointPage {
        at,
        to: path(replica, session),
        of: of.name.clone(),
        original: estate.original_of(of).map(|m| m.id.0),
        replica: (id, machine.name.clone()),
        session: session.to_string(),
        pair: (of.pair.0, Object::Pair(of.pair).name(estate)),
        taken: time(point.taken),
        facts: vec![
            ("How", point.consistent.word().to_owned()),
            ("Disks", point.size.to_string()),
            ("Went over", point.read.to_string()),
            ("On the line", point.stored.to_string()),
            ("Took", point.took.to_string()),
            ("Stays", stays(estate, point)),
            ("Of one instant with", shared(estate, point, &of.name)),
        ]
        .into_iter()
        .filter(|(_, v)| !v.is_empty())
        .collect(),
        proof: point.proof.as_deref().map(shown),
        copy: super::point::by(estate, at),
        may: signed.may(Act::Machines),
    })
}

#[get("/protect/replicas/<id>/<session>")]
pub(crate) fn show(signed: Signed, desk: &AtDesk, id: u64, session: &str) -> Page {
    let body = build(&signed, desk, id, session)?;
    let title = format!("A recovery point of {}", body.of);
    whole(&signed, desk, "protect", &title, &body)
}

/// While it is being proven.
#[get("/protect/replicas/<id>/<session>/part")]
pub(crate) fn page_part(signed: Signed, desk: &AtDesk, id: u64, session: &str) -> Page {
    let body = build(&signed, desk, id, session)?;
    part(&ProofPart {
        proof: body.proof,
        copy: body.copy,
        to: body.to,
    })
}
