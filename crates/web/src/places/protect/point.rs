//! A recovery point: what it has, as its store has it, and what can be made of it.

use super::{
    prove::{self, Proven, proven},
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
    moment::Moment,
    permits::{Act, Permits, Role},
    rooms::{
        Proposal, answers, assess,
        proving::{self, ProvePoint},
    },
    view::View,
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
    /// What is said of a proof that a job owes it.
    waits: String,
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
            ("Locked", locked(point, desk.now())),
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

/// Of a point that a job proves by itself: that it does next, or what it waits for.
fn waits(view: &View, at: PointAt, now: Moment) -> String {
    let owed = view.estate.to_prove(now);
    let Some((job, _)) = owed.iter().find(|(_, owed)| *owed == at.into()) else {
        return String::new();
    };
    let job = view.estate.jobs.get(job).map_or("", |j| j.name.as_str());
    let ask = Proposal::Proving(proving::Ask::Point(ProvePoint {
        point: Some(at.into()),
        cluster: None,
        limit: answers::LIMIT,
        together: true,
    }));
    let said = assess(view, &Permits::of(Role::Admin), &ask, now);
    match said.findings().iter().find(|f| f.stops()) {
        Some(stop) => format!("{job} proves it when it can: {}", stop.text),
        None => format!("{job} proves it by itself, a few at a time"),
    }
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

/// Until when nobody can take it away.
fn locked(point: &StoredPoint, now: Moment) -> String {
    match point.locked {
        None => String::new(),
        Some(until) if point.is_locked(now) => {
            format!(
                "until {} UTC: nobody can take it away before",
                until.stamp()
            )
        }
        Some(until) => format!("not since {} UTC", until.stamp()),
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
    prove::ask_all(desk, at.into()).await;
    let view = desk.look();
    let waits = waits(&view, at, desk.now());
    let none = |wrong: String| Has {
        waits: String::new(),
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
        waits,
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

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::Arc;
    use uuid::Uuid;
    use zastrugi_core::{
        estate::{Bucket, Consistent, Fact, Goal, Job, Lies, Series, Store},
        expression::Expression,
        ids::{JobId, MachineId, SeriesId, SiteId},
        moment::Span,
        recurrence::Recurrence,
        testkit::{Small, read},
        units::Bytes,
    };

    fn owed(proves: Option<Span>) -> (Small, PointAt) {
        let mut small = read("cluster eider\nhost 1 64\nhost 2 64\nmachine 7 db 8 on 1");
        let now = small.now;
        let m = small.view.estate.machines[&MachineId(7)].clone();
        let at = PointAt {
            store: StoreId(70),
            machine: m.uuid,
            session: Uuid::from_u128(3),
        };
        let point = StoredPoint {
            session: at.session,
            taken: now.before(Span::mins(20)),
            consistent: Consistent::Quiet,
            size: Bytes::gib(40),
            read: Bytes::gib(2),
            stored: Bytes::mib(300),
            took: Span::secs(20),
            job: Some(JobId(71)),
            locked: None,
            ends: None,
            whole: None,
            group: None,
            equal: None,
            proof: None,
        };
        small.alter(|e| {
            let mut labelled = zastrugi_core::estate::Machine::clone(&m);
            labelled.labels.insert("env".into(), "prod".into());
            e.put(Fact::Machine(labelled.into()));
            e.put(Fact::Store(Arc::new(Store {
                id: at.store,
                name: "hill".into(),
                site: SiteId(900),
                uuid: Uuid::nil(),
                lies: Lies::Bucket(Bucket {
                    address: "10.0.0.9:9443".into(),
                    pin: String::new(),
                    region: String::new(),
                    name: "points".into(),
                    folder: String::new(),
                    access: String::new(),
                    secret: None,
                }),
                key: None,
                ready: true,
                lock: None,
                taken_out: None,
                swept: None,
            })));
            e.put(Fact::Series(Arc::new(Series {
                id: SeriesId(72),
                store: at.store,
                machine: m.uuid,
                name: m.name.clone(),
                points: vec![point],
            })));
            e.put(Fact::Job(Arc::new(Job {
                id: JobId(71),
                name: "nightly".into(),
                who: Expression::read("env=prod").unwrap(),
                to: Goal::Store(at.store),
                when: Recurrence::read("FREQ=DAILY", "UTC", now.before(Span::days(9))).unwrap(),
                keeps: "last 2".parse().unwrap(),
                quiet: true,
                proves,
                how: Default::default(),
                paused: false,
                next: None,
                last: None,
            })));
        });
        (small, at)
    }

    /// If this fails, a promise of proven copies is broken for days and nobody finds what their proofs wait for.
    #[test]
    fn a_proof_that_waits_says_for_what() {
        let (small, at) = owed(Some(Span::days(7)));
        let said = waits(&small.view, at, small.now);
        assert!(
            said.starts_with("nightly proves it when it can: "),
            "{said}"
        );
        assert!(
            said.len() > "nightly proves it when it can: ".len() + 5,
            "{said}"
        );
        let (small, at) = owed(None);
        assert_eq!(waits(&small.view, at, small.now), "");
    }
}
